'use client';

import type { EChartsOption } from 'echarts';
import type { EChartsType } from 'echarts/core';
import { useRef } from 'react';
import { Chart } from './chart';

type Props = {
  /** Names its table and the files it is taken out as. */
  name: string;
  /** What is counted. */
  note: string;
  columns: string[];
  rows: (string | number)[][];
  draw: (token: (name: string) => string) => EChartsOption;
  height: number;
};

const save = (blob: Blob, name: string) => {
  const link = document.createElement('a');
  link.href = URL.createObjectURL(blob);
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
};
/** A cell as RFC 4180 has it; what a spreadsheet would take for a formula stays words. */
const cell = (value: string | number) => {
  const text = String(value);
  const words = typeof value === 'string' && /^[=+\-@\t]/.test(text) ? `'${text}` : text;
  return /[",\n]/.test(words) ? `"${words.replace(/"/g, '""')}"` : words;
};

/** A drawing with what is counted, the same figures as a table, and both to be taken out: as CSV, SVG and PNG. */
export function Drawing({ name, note, columns, rows, draw, height }: Props) {
  const chart = useRef<EChartsType | null>(null);
  const drawn = useRef((made: EChartsType) => {
    chart.current = made;
  });
  const file = name.toLowerCase().replace(/[^a-z0-9]+/g, '-');
  const svg = () => {
    const drawing = chart.current?.renderToSVGString() ?? '';
    return drawing.replace(/inherit/g, 'sans-serif');
  };
  const asPng = async () => {
    const of = chart.current;
    if (!of) return;
    const [width, tall] = [of.getWidth(), of.getHeight()];
    const picture = new Image();
    picture.src = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(svg())}`;
    await picture.decode();
    const canvas = document.createElement('canvas');
    canvas.width = 2 * width;
    canvas.height = 2 * tall;
    const on = canvas.getContext('2d')!;
    on.fillStyle = getComputedStyle(document.documentElement).getPropertyValue('--paper').trim();
    on.fillRect(0, 0, canvas.width, canvas.height);
    on.drawImage(picture, 0, 0, canvas.width, canvas.height);
    canvas.toBlob((blob) => blob && save(blob, `${file}.png`));
  };
  const asCsv = () => {
    const lines = [columns, ...rows].map((row) => row.map(cell).join(','));
    save(new Blob([`${lines.join('\r\n')}\r\n`], { type: 'text/csv' }), `${file}.csv`);
  };
  const button = 'link font-semibold';
  return (
    <>
      <Chart draw={draw} height={height} drawn={drawn.current} />
      <div className="mt-1 flex flex-wrap items-baseline justify-between gap-x-5 gap-y-1 text-small text-ink-2">
        <p className="max-w-2xl">{note}</p>
        <p className="flex gap-3">
          <button type="button" className={button} aria-label={`${name} as CSV`} onClick={asCsv}>
            CSV
          </button>
          <button
            type="button"
            className={button}
            aria-label={`${name} as SVG`}
            onClick={() => save(new Blob([svg()], { type: 'image/svg+xml' }), `${file}.svg`)}
          >
            SVG
          </button>
          <button type="button" className={button} aria-label={`${name} as PNG`} onClick={() => void asPng()}>
            PNG
          </button>
        </p>
      </div>
      <details className="mt-1 text-small text-ink-2">
        <summary className="link w-fit">As a table</summary>
        <div className="max-h-80 overflow-auto">
          <table className="figures mt-2 w-full max-w-2xl text-right" aria-label={name}>
            <thead>
              <tr>
                {columns.map((title, n) => (
                  <th key={title} className={n ? 'font-semibold' : 'text-left font-semibold'}>
                    {title}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {rows.map((row) => (
                <tr key={row.join('\t')} className="border-t border-rule-2">
                  {row.map((value, n) => (
                    <td key={columns[n]} className={n ? '' : 'text-left'}>
                      {value}
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      </details>
    </>
  );
}
