import clsx from 'clsx';
import Link from 'next/link';
import type { ReactNode } from 'react';

export type Column = {
  title: string;
  figure?: boolean;
  /** Is not shown on narrow screens. */
  hideNarrow?: boolean;
  /** The title is for whoever listens: what stands under it speaks for itself. */
  silent?: boolean;
  /** Where the title leads, to sort by it; and how it is sorted now, if it is by this. */
  sort?: { href: string; is?: 'ascending' | 'descending' };
};
type Row = {
  key: string;
  cells: ReactNode[];
  /** Makes the row one that can be given the focus (`ActionForm`). */
  id?: string;
};
type Props = { label: string; columns: Column[]; rows: Row[] };

/**
 * An open table, ruled with hairlines; figures stand right. On narrow screens each row is read downwards: its first cell, then the others with their
 * titles before them. The roles are said, since browsers forget them where a table is laid out in another way.
 */
export function Table({ label, columns, rows }: Props) {
  const sorts = columns.some((column) => column.sort);
  const cell = (column: Column | undefined) =>
    clsx(column?.figure && 'figures md:text-right', column?.hideNarrow && 'max-md:hidden');
  return (
    // biome-ignore-start lint/a11y/noRedundantRoles: a table laid out as blocks is none to a browser
    <table role="table" className="w-full border-collapse max-md:block" aria-label={label}>
      <thead role="rowgroup" className={sorts ? 'max-md:block' : 'max-md:sr-only'}>
        <tr
          role="row"
          className={clsx(
            'border-b text-left text-[12px] text-ink-2',
            sorts &&
              "max-md:flex max-md:flex-wrap max-md:items-baseline max-md:py-1.5 max-md:before:pr-1 max-md:before:content-['Sort_by']",
          )}
        >
          {columns.map((column) => (
            <th
              key={column.title}
              role="columnheader"
              scope="col"
              aria-sort={column.sort?.is}
              className={clsx(
                'px-2.5 py-2.5 font-semibold',
                column.title.length < 18 && 'whitespace-nowrap',
                sorts && 'max-md:px-1.5 max-md:py-1',
                cell(column),
              )}
            >
              {column.silent ? (
                <span className="sr-only">{column.title}</span>
              ) : column.sort ? (
                <Link
                  href={column.sort.href}
                  scroll={false}
                  className={column.sort.is ? 'text-ink underline' : 'hover:underline'}
                >
                  {column.title}
                  {column.sort.is && <span aria-hidden> {column.sort.is === 'ascending' ? '↑' : '↓'}</span>}
                </Link>
              ) : (
                column.title
              )}
            </th>
          ))}
        </tr>
      </thead>
      <tbody role="rowgroup" className="max-md:block">
        {rows.map((row) => (
          <tr
            key={row.key}
            id={row.id}
            tabIndex={row.id ? -1 : undefined}
            role="row"
            className="border-b border-rule-2 align-top max-md:flex max-md:flex-wrap max-md:items-baseline max-md:gap-x-4 max-md:gap-y-1 max-md:py-2.5"
          >
            {row.cells.map((content, n) => {
              const column = columns[n];
              return (
                <td
                  key={column?.title}
                  role="cell"
                  className={clsx('md:px-2.5 md:py-2.5', n === 0 && 'max-md:w-full', cell(column))}
                >
                  {n > 0 && column && !column.silent && (
                    <span aria-hidden className="mr-1.5 text-small text-ink-2 md:hidden">
                      {column.title}
                    </span>
                  )}
                  {content}
                </td>
              );
            })}
          </tr>
        ))}
      </tbody>
    </table>
    // biome-ignore-end lint/a11y/noRedundantRoles: see above
  );
}
