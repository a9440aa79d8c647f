'use client';

import type { EChartsOption } from 'echarts';
import { useCallback } from 'react';
import { counted, figure } from '@/core/growth/figures';
import { shortDay } from '@/core/growth/times';
import { Chart } from '../kit/chart';

type Day = { day: string; joined: number; left: number };

/** Joined above the line and left below it, day by day; the same figures stand in a table behind it. */
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
      <Chart draw={draw} height={110} />
      <p className="mt-2 flex flex-wrap justify-between gap-x-4 text-[13px] text-ink-2">
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
      <details className="mt-1 text-small text-ink-2">
        <summary className="link w-fit">As a table</summary>
        <table className="figures mt-2 w-full text-right">
          <thead>
            <tr>
              <th className="text-left font-semibold">Day</th>
              <th className="font-semibold">Joined</th>
              <th className="font-semibold">Left</th>
            </tr>
          </thead>
          <tbody>
            {days.map((day) => (
              <tr key={day.day} className="border-t border-rule-2" title={counted(day.joined, 'person joined', 'people joined')}>
                <td className="text-left">{shortDay(day.day)}</td>
                <td>{figure(day.joined)}</td>
                <td>{figure(day.left)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </details>
    </div>
  );
}
