'use client';

import type { EChartsOption } from 'echarts';
import { useCallback } from 'react';
import { figure, percent } from '@/core/growth/figures';
import { CURVE_HOURS, type LetterFigures, upToEachHour } from '@/core/sending/result';
import { valueAxis } from '../kit/axes';
import { Drawing } from '../kit/drawing';

type Props = {
  figures: LetterFigures;
  delivered: number;
  /** So many of its hours are over, or have begun: later ones are not known. */
  hours: number;
  usual: number[] | null;
  former: number;
  clicks: boolean;
};
/** The hours at which a letter's first two days are read off in words. */
const TOLD = [1, 3, 6, 12, 24, 48];

/** How many had read a letter, and clicked, by each hour of its first two days, beside what is usual; the same as a table under it. */
export function FirstDays({ figures, delivered, hours, usual, former, clicks }: Props) {
  const [reads, clicked] = [upToEachHour(figures.reads), upToEachHour(figures.clicks)];
  const known = (n: number, hour: number) => (hour - 1 < hours ? `${figure(n)} · ${percent(n, delivered)}` : 'not yet');
  const share = useCallback((n: number) => (delivered ? (100 * n) / delivered : 0), [delivered]);
  const draw = useCallback(
    (token: (name: string) => string): EChartsOption => {
      const ends = [figures.reads, figures.clicks].map((all) => share(upToEachHour(all)[Math.min(hours, all.length) - 1] ?? 0));
      // Two lines that end in one place have one label.
      const together = clicks && Math.abs(ends[0]! - ends[1]!) < 2;
      const line = (name: string, values: number[], colour: string, dashed = false) => ({
        name,
        type: 'line' as const,
        data: values.map((value) => Number(value.toFixed(2))),
        showSymbol: false,
        lineStyle: { color: token(colour), width: dashed ? 1.5 : 2.2, type: dashed ? ('dashed' as const) : ('solid' as const) },
        itemStyle: { color: token(colour) },
        endLabel: {
          show: name !== 'clicked' || !together,
          formatter: name === 'read' && together ? 'read, clicked' : name,
          color: token(colour),
          fontFamily: 'inherit',
          fontSize: 12,
        },
      });
      return {
        grid: { left: 36, right: 76, top: 12, bottom: 24 },
        tooltip: { trigger: 'axis', valueFormatter: (value) => `${Number(value).toFixed(1)}%` },
        xAxis: {
          type: 'category',
          data: figures.reads.map((_, hour) => `${hour + 1} h`),
          axisTick: { show: false },
          axisLine: { lineStyle: { color: token('--ink-3') } },
          axisLabel: {
            color: token('--ink-2'),
            fontFamily: 'inherit',
            interval: (n: number) => [0, 5, 11, 23, 35, 47].includes(n),
          },
        },
        yAxis: { ...valueAxis(token, '{value}%'), splitNumber: 4 },
        series: [
          ...(usual
            ? [
                line(
                  'usual',
                  usual.map((one) => 100 * one),
                  '--ink-3',
                  true,
                ),
              ]
            : []),
          line('read', upToEachHour(figures.reads).slice(0, hours).map(share), '--verdigris'),
          ...(clicks ? [line('clicked', upToEachHour(figures.clicks).slice(0, hours).map(share), '--slate')] : []),
        ],
      };
    },
    [figures, hours, usual, clicks, share],
  );
  return (
    <Drawing
      name="First two days"
      note={`Shares of those who got it, by the hours since it began to leave${
        usual
          ? `; usual is the middle of your last ${former} letters.`
          : '. What is usual is shown once three letters before it have had their two days.'
      }`}
      columns={['Within', 'Read', 'Usual', ...(clicks ? ['Clicked'] : [])]}
      rows={TOLD.filter((hour) => hour <= CURVE_HOURS).map((hour) => [
        hour === 1 ? 'the first hour' : `${hour} hours`,
        known(reads[hour - 1] ?? 0, hour),
        usual ? percent(Math.round(1e6 * (usual[hour - 1] ?? 0)), 1e6) : '–',
        ...(clicks ? [known(clicked[hour - 1] ?? 0, hour)] : []),
      ])}
      draw={draw}
      height={220}
    />
  );
}
