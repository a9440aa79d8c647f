'use client';

import type { EChartsOption } from 'echarts';
import { useCallback } from 'react';
import { figure } from '@/core/growth/figures';
import { shortDay } from '@/core/growth/times';
import { Drawing } from '../kit/drawing';

type Day = { day: string; joined: number; left: number };

/** Joined above the line and left below it, day by day. */
export function JoinedLeft({ days }: { days: Day[] }) {
  const joined = days.reduce((sum, day) => sum + day.joined, 0);
  const left = days.reduce((sum, day) => sum + day.left, 0);
  const draw = useCallback(
    (token: (name: string) => string): EChartsOption => {
      const bar = (name: string, values: number[], colour: string) => ({
        name,
        type: 'bar' as const,
        stack: 'net',
        data: values,
        itemStyle: { color: token(colour) },
        barWidth: '66%',
      });
      return {
        grid: { left: 0, right: 0, top: 6, bottom: 2 },
        tooltip: {
          trigger: 'axis',
          formatter: (points) => {
            const day = days[[points].flat()[0]?.dataIndex ?? 0];
            return day ? `${shortDay(day.day)}<br>${figure(day.joined)} joined, ${figure(day.left)} left` : '';
          },
        },
        xAxis: {
          type: 'category',
          data: days.map((day) => day.day),
          axisLabel: { show: false },
          axisTick: { show: false },
          axisLine: { lineStyle: { color: token('--ink-3') } },
        },
        yAxis: { type: 'value', show: false },
        series: [
          bar(
            'joined',
            days.map((day) => day.joined),
            '--verdigris',
          ),
          bar(
            'left',
            days.map((day) => -day.left),
            '--stamp',
          ),
        ],
      };
    },
    [days],
  );

  return (
    <div>
      <p className="mt-2.5 mb-2 flex flex-wrap justify-between gap-x-4 text-[13px] text-ink-2">
        <span className="flex gap-4">
          <span>
            <i aria-hidden className="mr-1.5 inline-block size-2 bg-verdigris" />
            {figure(joined)} joined
          </span>
          <span>
            <i aria-hidden className="mr-1.5 inline-block size-2 bg-stamp" />
            {figure(left)} left
          </span>
        </span>
        <span>
          Net <b className="text-ink">{joined >= left ? `+${figure(joined - left)}` : `−${figure(left - joined)}`}</b>
        </span>
      </p>
      <Drawing
        name="Joined and left"
        note="Who began to read, above the line, and who reads nothing any more, below it; day by day."
        columns={['Day', 'Joined', 'Left']}
        rows={days.map((day) => [shortDay(day.day), day.joined, day.left])}
        draw={draw}
        height={110}
      />
    </div>
  );
}
