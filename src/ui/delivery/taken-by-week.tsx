'use client';

import type { EChartsOption } from 'echarts';
import { useCallback, useMemo } from 'react';
import { dayOfYear } from '@/core/growth/times';
import { Drawing } from '../kit/drawing';

export type TakenLine = { name: string; weeks: { week: string; taken: number; settled: number }[] };

/** Told apart by how they are drawn, not by colour alone. */
const STYLES = [
  { colour: '--verdigris', type: 'solid', symbol: 'circle', dashes: '' },
  { colour: '--slate', type: 'dashed', symbol: 'rect', dashes: '7 4' },
  { colour: '--plum', type: 'dotted', symbol: 'triangle', dashes: '2 3' },
  { colour: '--ochre', type: [8, 3, 2, 3], symbol: 'diamond', dashes: '8 3 2 3' },
  { colour: '--ink-3', type: [2, 4], symbol: 'emptyCircle', dashes: '2 5' },
] as const;
const share = (taken: number, settled: number) => (settled > 0 ? Number(((100 * taken) / settled).toFixed(2)) : null);

/** The share of copies that each provider took, week by week, of those that came to an end. */
export function TakenByWeek({ lines }: { lines: TakenLine[] }) {
  const shown = useMemo(() => lines.slice(0, STYLES.length), [lines]);
  const weeks = useMemo(() => [...new Set(shown.flatMap((line) => line.weeks.map(({ week }) => week)))].sort(), [shown]);
  const of = useCallback((line: TakenLine, week: string) => {
    const found = line.weeks.find((one) => one.week === week);
    return found ? share(found.taken, found.settled) : null;
  }, []);
  const draw = useCallback(
    (token: (name: string) => string): EChartsOption => {
      const all = shown.flatMap((line) => weeks.map((week) => of(line, week))).filter((value) => value !== null);
      // In whole fifths of what lies above the least.
      const least = Math.max(0, Math.floor((Math.min(100, ...all) - 1) / 5) * 5);
      return {
        grid: { left: 44, right: 12, top: 12, bottom: 24 },
        tooltip: {
          trigger: 'axis',
          valueFormatter: (value) => (value === null || value === undefined ? 'nothing sent' : `${Number(value).toFixed(1)}%`),
        },
        xAxis: {
          type: 'category',
          data: weeks.map((week) => dayOfYear(week)),
          axisTick: { show: false },
          axisLine: { lineStyle: { color: token('--ink-3') } },
          axisLabel: { color: token('--ink-2'), fontFamily: 'inherit', hideOverlap: true },
        },
        yAxis: {
          type: 'value',
          min: least,
          max: 100,
          interval: (100 - least) / 5,
          axisLabel: { color: token('--ink-2'), fontFamily: 'inherit', formatter: '{value}%' },
          splitLine: { lineStyle: { color: token('--rule-2') } },
        },
        series: shown.map((line, n) => {
          const { colour, type, symbol } = STYLES[n]!;
          return {
            name: line.name,
            type: 'line',
            data: weeks.map((week) => of(line, week)),
            connectNulls: true,
            symbol,
            symbolSize: 6,
            lineStyle: { color: token(colour), width: 2, type: type as 'solid' },
            itemStyle: { color: token(colour) },
          };
        }),
      };
    },
    [shown, weeks, of],
  );
  return (
    <>
      <p className="mt-4 flex flex-wrap gap-x-5 gap-y-1 text-small text-ink-2">
        {shown.map((line, n) => (
          <span key={line.name} className="inline-flex items-center gap-2">
            <svg width="30" height="10" aria-hidden>
              <line
                x1="0"
                y1="5"
                x2="30"
                y2="5"
                stroke={`var(${STYLES[n]!.colour})`}
                strokeWidth="2"
                strokeDasharray={STYLES[n]!.dashes}
              />
            </svg>
            {line.name}
          </span>
        ))}
      </p>
      <Drawing
        name="Taken week by week"
        note="Of the copies that came to an end, how many each provider took, by the week in which their letter began. A copy that was put off and taken later counts as taken."
        columns={['Week of', ...shown.map((line) => line.name)]}
        rows={weeks.map((week) => [
          dayOfYear(week),
          ...shown.map((line) => {
            const value = of(line, week);
            return value === null ? '–' : `${value.toFixed(1)}%`;
          }),
        ])}
        draw={draw}
        height={230}
      />
    </>
  );
}
