'use client';

import type { EChartsOption } from 'echarts';
import { useCallback } from 'react';
import { alongAxis, valueAxis } from '../kit/axes';
import { Drawing } from '../kit/drawing';

export type ChartedLetter = {
  subject: string;
  at: string;
  day: string;
  read: number | null;
  clicked: number | null;
  left: number;
};

/** Of each letter the share that read it and that clicked, from the oldest to the latest. */
export function LettersChart({ letters }: { letters: ChartedLetter[] }) {
  const draw = useCallback(
    (token: (name: string) => string): EChartsOption => {
      const line = (name: 'read' | 'clicked', colour: string) => ({
        name,
        type: 'line' as const,
        connectNulls: false,
        symbol: 'circle',
        symbolSize: letters.length > 60 ? 3 : 6,
        data: letters.map((letter) => (letter[name] === null ? null : Number((100 * letter[name]).toFixed(2)))),
        lineStyle: { color: token(colour), width: 1.4 },
        itemStyle: { color: token(colour) },
        endLabel: { show: true, formatter: name, color: token(colour), fontFamily: 'inherit', fontSize: 12 },
      });
      const subjects = letters.map((letter) => letter.subject);
      return {
        grid: { left: 44, right: 64, top: 12, bottom: 24 },
        tooltip: {
          trigger: 'axis',
          // As text: a subject is whatever somebody wrote.
          renderMode: 'richText',
          formatter: (points) => {
            const all = [points].flat();
            const n = all[0]?.dataIndex ?? 0;
            const shares = all
              .filter((one) => one.value !== null && one.value !== undefined)
              .map((one) => `${one.seriesName} ${one.value}%`);
            return `${(subjects[n] ?? '').slice(0, 60)}\n${letters[n]?.day ?? ''}: ${shares.join(', ')}`;
          },
        },
        xAxis: alongAxis(
          token,
          letters.map((letter) => letter.day),
        ),
        yAxis: {
          ...valueAxis(token, '{value}%'),
          splitNumber: 4,
          // Nobody reads more than all.
          ...(letters.some(({ read }) => (read ?? 0) > 0.8) ? { max: 100, interval: 25 } : {}),
        },
        series: [line('read', '--verdigris'), line('clicked', '--slate')],
      };
    },
    [letters],
  );
  const share = (value: number | null) => (value === null ? '–' : `${(100 * value).toFixed(1)}%`);
  return (
    <Drawing
      name="Letters compared"
      note="Of those whom each letter reached: the share that was seen to read it, and that followed a link. A gap is a letter of which that is not counted."
      columns={['Letter', 'Left on', 'Read', 'Clicked']}
      rows={letters.map((letter) => [letter.subject, letter.day, share(letter.read), share(letter.clicked)])}
      draw={draw}
      height={240}
    />
  );
}
