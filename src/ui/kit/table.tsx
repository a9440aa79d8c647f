import clsx from 'clsx';
import type { ReactNode } from 'react';

export type Column = { title: string; figure?: boolean; hideNarrow?: boolean };

/** An open table, ruled with hairlines. Figures stand right; columns marked so are dropped on narrow screens. */
export function Table({
  label,
  columns,
  rows,
}: {
  label: string;
  columns: Column[];
  rows: { key: string; cells: ReactNode[] }[];
}) {
  const cell = (column: Column | undefined) =>
    clsx(column?.figure && 'figures text-right', column?.hideNarrow && 'hidden md:table-cell');
  return (
    <div className="overflow-x-auto">
      <table className="w-full border-collapse" aria-label={label}>
        <thead>
          <tr className="border-b text-left text-[12px] text-ink-2">
            {columns.map((column) => (
              <th
                key={column.title}
                scope="col"
                className={clsx('px-2.5 py-2.5 font-semibold', column.title.length < 18 && 'whitespace-nowrap', cell(column))}
              >
                {column.title}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <tr key={row.key} className="border-b border-rule-2 align-top">
              {row.cells.map((content, n) => (
                <td key={columns[n]?.title} className={clsx('px-2.5 py-2.5', cell(columns[n]))}>
                  {content}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
