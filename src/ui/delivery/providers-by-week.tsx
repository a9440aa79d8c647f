'use client';

import { Radio, RadioGroup } from '@headlessui/react';
import type { EChartsOption } from 'echarts';
import { useCallback, useMemo, useState } from 'react';
import { OVER_TIME, type OverTime, type ProviderLine, sharesOverTime } from '@/core/delivery/standing';
import { dayOfYear } from '@/core/growth/times';
import { alongAxis, valueAxis } from '../kit/axes';
import { Drawing } from '../kit/drawing';

/** Told apart by how they are drawn, not by colour alone. */
const STYLES = [
  { colour: '--verdigris', type: 'solid', symbol: 'circle', dashes: '' },
  { colour: '--slate', type: 'dashed', symbol: 'rect', dashes: '7 4' },
  { colour: '--plum', type: 'dotted', symbol: 'triangle', dashes: '2 3' },
  { colour: '--ochre', type: [8, 3, 2, 3], symbol: 'diamond', dashes: '8 3 2 3' },
  { colour: '--ink-3', type: [2, 4], symbol: 'emptyCircle', dashes: '2 5' },
] as const;
/** Whole steps of an axis: five of them up to the most there is. */
function axisOf(what: OverTime, values: number[]): { min: number; max: number; interval: number } {
  if (what === 'taken' || what === 'read') {
    const least = Math.max(0, Math.floor((Math.min(100, ...values) - 1) / 5) * 5);
    return { min: least, max: 100, interval: (100 - least) / 5 };
  }
  const most = Math.max(what === 'complaints' ? 0.4 : 1, ...values);
  const size = 10 ** Math.floor(Math.log10(most / 5));
  const interval = Number(([1, 2, 2.5, 5, 10].find((n) => n * size * 5 >= most)! * size).toPrecision(3));
  return { min: 0, max: Number((5 * interval).toPrecision(6)), interval };
}

/** How each provider treated letters, week by week: whichever share of its copies one wants to look at. */
export function ProvidersByWeek({ lines }: { lines: ProviderLine[] }) {
  const [what, look] = useState<OverTime>('taken');
  const { word, note } = OVER_TIME[what];
  const digits = what === 'complaints' ? 2 : 1;
  const weeks = useMemo(() => [...new Set(lines.flatMap((line) => line.weeks.map(({ week }) => week)))].sort(), [lines]);
  const shares = useMemo(() => sharesOverTime(lines, weeks, what, digits), [lines, weeks, what, digits]);
  const draw = useCallback(
    (token: (name: string) => string): EChartsOption => ({
      grid: { left: 48, right: 12, top: 12, bottom: 24 },
      tooltip: {
        trigger: 'axis',
        valueFormatter: (value) =>
          value === null || value === undefined
            ? what === 'junk'
              ? 'too little known'
              : 'nothing sent'
            : `${what === 'junk' ? 'at least ' : ''}${Number(value).toFixed(digits)}%`,
      },
      xAxis: alongAxis(
        token,
        weeks.map((week) => dayOfYear(week)),
      ),
      yAxis: {
        ...valueAxis(token, '{value}%'),
        ...axisOf(
          what,
          shares.flatMap((of) => of.flatMap(({ share }) => (share === null ? [] : [share]))),
        ),
      },
      series: lines.map((line, n) => {
        const { colour, type, symbol } = STYLES[n]!;
        return {
          name: line.name,
          type: 'line',
          data: shares[n]!.map(({ share }) => share),
          // Between weeks in which nothing was sent, but not where nobody knows.
          connectNulls: what !== 'junk',
          symbol,
          symbolSize: 6,
          lineStyle: { color: token(colour), width: 2, type: type as 'solid' },
          itemStyle: { color: token(colour) },
        };
      }),
    }),
    [lines, weeks, shares, what, digits],
  );
  return (
    <>
      <div className="mt-4 flex flex-wrap items-center justify-between gap-x-5 gap-y-2">
        <RadioGroup
          value={what}
          onChange={look}
          aria-label="What is drawn week by week"
          className="inline-flex flex-wrap overflow-hidden rounded-md border"
        >
          {(Object.keys(OVER_TIME) as OverTime[]).map((one) => (
            <Radio
              key={one}
              value={one}
              className="cursor-pointer border-r bg-sheet px-3 py-1.5 text-[13px] font-medium text-ink-2 last:border-r-0 data-checked:bg-ink data-checked:text-paper"
            >
              {OVER_TIME[one].word}
            </Radio>
          ))}
        </RadioGroup>
        <p className="flex flex-wrap gap-x-5 gap-y-1 text-small text-ink-2">
          {lines.map((line, n) => (
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
      </div>
      <Drawing
        name={`${word} week by week`}
        note={note}
        columns={['Week of', ...lines.map((line) => line.name)]}
        rows={weeks.map((week, at) => [dayOfYear(week), ...shares.map((of) => of[at]!.said)])}
        draw={draw}
        height={230}
      />
    </>
  );
}
