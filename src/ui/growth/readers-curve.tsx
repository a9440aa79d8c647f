'use client';

import type { EChartsOption } from 'echarts';
import { useCallback, useMemo } from 'react';
import { figure } from '@/core/growth/figures';
import type { Forecast } from '@/core/growth/forecast';
import { dayOfYear } from '@/core/growth/times';
import { alongAxis } from '../kit/axes';
import { Drawing } from '../kit/drawing';

type Props = {
  curve: { day: string; readers: number }[];
  /** The days on which the weeks of a forecast end, with what it says. */
  ahead: (Forecast & { day: string })[];
  goal: number | null;
  notes: { day: string; words: string }[];
};

/** A forecast’s weeks as days, on straight lines between them, so that a day is as wide as any other. */
function dayByDay(readers: number, ahead: Props['ahead']): Props['ahead'] {
  return ahead.flatMap((one, n) => {
    const before = ahead[n - 1] ?? { readers, low: readers, high: readers };
    const at = (field: 'readers' | 'low' | 'high', share: number) =>
      Math.round(before[field] + share * (one[field] - before[field]));
    return Array.from({ length: 7 }, (_, k) => {
      const share = (k + 1) / 7;
      const day = new Date(Date.parse(`${one.day}T12:00:00Z`) - (6 - k) * 86_400_000).toISOString().slice(0, 10);
      return { ...one, day, readers: at('readers', share), low: at('low', share), high: at('high', share) };
    });
  });
}

/** People on lists day by day, what comes if it goes on so with its band, the goal, and the days that something was noted of. */
export function ReadersCurve({ curve, ahead, goal, notes }: Props) {
  const coming = useMemo(() => dayByDay(curve.at(-1)?.readers ?? 0, ahead), [curve, ahead]);
  const days = useMemo(() => [...curve.map(({ day }) => day), ...coming.map(({ day }) => day)], [curve, coming]);
  const draw = useCallback(
    (token: (name: string) => string): EChartsOption => {
      const last = curve.at(-1)!;
      const then = (of: (one: Forecast) => number) => [...curve.slice(0, -1).map(() => null), last.readers, ...coming.map(of)];
      const all = [
        ...curve.map(({ readers }) => readers),
        ...ahead.flatMap(({ low, high }) => [low, high]),
        ...(goal ? [goal] : []),
      ];
      const [least, most] = [Math.min(...all), Math.max(...all)];
      const room = Math.max(5, (most - least) * 0.08);
      const noted = new Map<string, string[]>();
      for (const { day, words } of notes) noted.set(day, [...(noted.get(day) ?? []), words]);
      const line = (name: string, data: (number | null)[], colour: string, type: 'solid' | 'dashed' | 'dotted') => ({
        name,
        type: 'line' as const,
        data,
        showSymbol: false,
        lineStyle: { color: token(colour), width: type === 'solid' ? 2.2 : 1.6, type },
        itemStyle: { color: token(colour) },
        endLabel: { show: name !== '', formatter: name, color: token(colour), fontFamily: 'inherit', fontSize: 12 },
        labelLayout: { moveOverlap: 'shiftY' as const },
      });
      return {
        grid: { left: 48, right: ahead.length || goal ? 78 : 62, top: 12, bottom: 24 },
        tooltip: {
          trigger: 'axis',
          formatter: (points) => {
            const at = [points].flat()[0]?.dataIndex ?? 0;
            const day = days[at]!;
            const come = coming[at - curve.length];
            const words = (noted.get(day) ?? [])
              .map((one) => `<br>${one.replace(/[&<>]/g, (c) => `&#${c.charCodeAt(0)};`)}`)
              .join('');
            return come
              ? `${dayOfYear(day)}<br>about ${figure(come.readers)}, ${figure(come.low)} to ${figure(come.high)}`
              : `${dayOfYear(day)}<br>${figure(curve[at]?.readers ?? 0)} readers${words}`;
          },
        },
        xAxis: alongAxis(token, days.map(dayOfYear)),
        yAxis: {
          type: 'value',
          min: Math.max(0, Math.floor(least - room)),
          max: Math.ceil(most + room),
          splitNumber: 4,
          axisLabel: {
            color: token('--ink-2'),
            fontFamily: 'inherit',
            formatter: (value: number) => figure(Math.round(value)),
            showMinLabel: false,
            showMaxLabel: false,
          },
          splitLine: { lineStyle: { color: token('--rule-2') } },
        },
        series: [
          ...(ahead.length
            ? [
                {
                  ...line(
                    '',
                    then(({ low }) => low),
                    '--verdigris',
                    'dotted' as const,
                  ),
                  stack: 'band',
                  lineStyle: { opacity: 0 },
                  endLabel: { show: false },
                },
                {
                  ...line(
                    '',
                    [...curve.slice(0, -1).map(() => null), 0, ...coming.map(({ low, high }) => high - low)],
                    '--verdigris',
                    'dotted' as const,
                  ),
                  stack: 'band',
                  lineStyle: { opacity: 0 },
                  areaStyle: { color: token('--verdigris'), opacity: 0.14 },
                  endLabel: { show: false },
                },
                line(
                  'as lately',
                  then(({ readers }) => readers),
                  '--verdigris',
                  'dashed',
                ),
              ]
            : []),
          line(
            ahead.length ? '' : 'readers',
            curve.map(({ readers }) => readers),
            '--verdigris',
            'solid',
          ),
          ...(goal
            ? [
                {
                  ...line(
                    'goal',
                    days.map(() => goal),
                    '--plum',
                    'dotted',
                  ),
                  // Away from the label of a line that ends near it.
                  endLabel: {
                    show: true,
                    formatter: 'goal',
                    color: token('--plum'),
                    fontFamily: 'inherit',
                    fontSize: 12,
                    offset: [0, (ahead.at(-1)?.readers ?? last.readers) >= goal ? 9 : -9],
                  },
                },
              ]
            : []),
          {
            name: 'noted',
            type: 'scatter' as const,
            symbol: 'diamond',
            symbolSize: 10,
            itemStyle: { color: token('--ochre') },
            data: curve.map(({ day, readers }) => (noted.has(day) ? readers : null)),
          },
        ],
      };
    },
    [curve, ahead, coming, goal, notes, days],
  );
  return (
    <Drawing
      name="Readers day by day"
      note="People who read at least one list at the end of each day, with those whose address takes no mail any more."
      columns={['Day', 'Readers', 'At least', 'At most']}
      rows={[
        ...curve.map(({ day, readers }) => [dayOfYear(day), figure(readers), '', '']),
        ...ahead.map(({ day, readers, low, high }) => [
          `${dayOfYear(day)} (forecast)`,
          figure(readers),
          figure(low),
          figure(high),
        ]),
      ]}
      draw={draw}
      height={260}
    />
  );
}
