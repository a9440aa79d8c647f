'use client';

import type { EChartsOption } from 'echarts';
import { useCallback } from 'react';
import { figure } from '@/core/growth/figures';
import { dayOfYear } from '@/core/growth/times';
import { alongAxis, valueAxis } from '../kit/axes';
import { Drawing } from '../kit/drawing';

type Props = {
  domain: string;
  days: { day: string; plan: number; ceiling: number; left: number | null; bounced: number; complained: number }[];
};

/** A ramp-up against its plan: what left each day, under the ceiling that came of what readers and providers said. */
export function RampDays({ domain, days }: Props) {
  const draw = useCallback(
    (token: (name: string) => string): EChartsOption => ({
      grid: { left: 52, right: 12, top: 12, bottom: 24 },
      tooltip: { trigger: 'axis', valueFormatter: (value) => (value === null ? '–' : figure(Number(value))) },
      xAxis: alongAxis(
        token,
        days.map(({ day }) => dayOfYear(day)),
      ),
      yAxis: valueAxis(token, (value: number) => figure(value)),
      series: [
        {
          name: 'Left',
          type: 'bar',
          data: days.map(({ left }) => left),
          itemStyle: { color: token('--verdigris') },
          barMaxWidth: 18,
        },
        {
          name: 'Ceiling',
          type: 'line',
          step: 'middle',
          showSymbol: false,
          data: days.map(({ ceiling }) => ceiling),
          lineStyle: { color: token('--ink'), width: 2 },
          itemStyle: { color: token('--ink') },
        },
        {
          name: 'As planned',
          type: 'line',
          step: 'middle',
          showSymbol: false,
          data: days.map(({ plan }) => plan),
          lineStyle: { color: token('--ink-3'), width: 1.5, type: 'dashed' },
          itemStyle: { color: token('--ink-3') },
        },
      ],
    }),
    [days],
  );
  return (
    <Drawing
      name={`Ramp-up of ${domain}`}
      note="Bars are copies that left on each day; the line is that day’s ceiling, the dashed one what was planned. After a day with many complaints or bounces the ceiling stands still or falls."
      columns={['Day', 'Planned', 'Ceiling', 'Left', 'Bounced', 'Complaints']}
      rows={days.map((one) => [
        dayOfYear(one.day),
        figure(one.plan),
        figure(one.ceiling),
        one.left === null ? '–' : figure(one.left),
        figure(one.bounced),
        figure(one.complained),
      ])}
      draw={draw}
      height={200}
    />
  );
}
