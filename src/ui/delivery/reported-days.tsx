'use client';

import type { EChartsOption } from 'echarts';
import { useCallback } from 'react';
import { dayOfYear } from '@/core/growth/times';
import { alongAxis } from '../kit/axes';
import { Drawing } from '../kit/drawing';

type Day = { day: string; believed: number; doubted: number; strangers: number };
/** Told apart by how they are filled, not by colour alone. */
const PARTS = [
  { field: 'believed', name: 'believed', colour: '--verdigris', decal: 'none' },
  { field: 'doubted', name: 'yours or forwarded, not believed', colour: '--ochre', decal: 'rect' },
  { field: 'strangers', name: 'strangers', colour: '--stamp', decal: 'line' },
] as const;

/** Mail in a domain's name, day by day: believed, doubted, strangers'. */
export function ReportedDays({ days }: { days: Day[] }) {
  const draw = useCallback(
    (token: (name: string) => string): EChartsOption => ({
      grid: { left: 52, right: 8, top: 10, bottom: 24 },
      tooltip: { trigger: 'axis' },
      xAxis: alongAxis(
        token,
        days.map(({ day }) => dayOfYear(day)),
      ),
      yAxis: {
        type: 'value',
        minInterval: 1,
        axisLabel: { color: token('--ink-2'), fontFamily: 'inherit' },
        splitLine: { lineStyle: { color: token('--rule-2') } },
        splitNumber: 3,
      },
      series: PARTS.map(({ field, name, colour, decal }) => ({
        name,
        type: 'bar',
        stack: 'all',
        data: days.map((day) => day[field]),
        barMaxWidth: 26,
        itemStyle: {
          color: token(colour),
          ...(decal === 'none'
            ? {}
            : {
                decal: {
                  symbol: decal === 'line' ? 'line' : 'rect',
                  color: token('--sheet'),
                  dashArrayX: [1, 0],
                  dashArrayY: decal === 'line' ? [2, 4] : [1, 5],
                  rotation: decal === 'line' ? -Math.PI / 4 : 0,
                },
              }),
        },
      })),
    }),
    [days],
  );
  return (
    <div>
      <p className="mt-1 flex flex-wrap gap-x-4 text-small text-ink-2">
        {PARTS.map(({ field, name }) => (
          <span key={field}>
            <i
              aria-hidden
              className={`mr-1.5 inline-block size-2 ${{ believed: 'bg-verdigris', doubted: 'bg-ochre', strangers: 'bg-stamp' }[field]}`}
            />
            {name}
          </span>
        ))}
      </p>
      <Drawing
        name="Mail in your name day by day"
        note="As mailbox providers reported it, by the day in whose hours a report lies. Providers that send no reports are not in it."
        columns={['Day', ...PARTS.map(({ name }) => name)]}
        rows={days.map(({ day, believed, doubted, strangers }) => [dayOfYear(day), believed, doubted, strangers])}
        draw={draw}
        height={170}
      />
    </div>
  );
}
