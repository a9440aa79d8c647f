'use client';

import { useWindowVirtualizer } from '@tanstack/react-virtual';
import clsx from 'clsx';
import Link from 'next/link';
import { useRouter } from 'next/navigation';
import { type KeyboardEvent, type MouseEvent, useEffect, useEffectEvent, useRef, useState } from 'react';
import { counted, figure } from '@/core/growth/figures';
import { spokenTime } from '@/core/growth/times';
import { STANDING_WORDS } from '@/core/readers/tell';
import type { Column } from '@/core/readers/view';
import { BulkBar, type BulkProps } from './bulk-bar';
import { StateChip } from './state-chip';

/** A row as the server gives it, over JSON. */
export type ReaderLine = {
  id: string;
  address: string;
  firstName: string | null;
  standing: 'reading' | 'waiting' | 'left' | 'unreachable' | 'none';
  addressState: 'fine' | 'bouncing' | 'unreachable' | 'suppressed';
  cameAt: string;
  lists: { name: string; state: string }[];
  tags: string[];
  source: string;
  form: string | null;
  page: string | null;
  read: { of: number; read: number };
  lastReadAt: string | null;
  warmth: number | null;
};

const TITLES: Record<Column, string> = {
  state: 'State',
  lists: 'Lists',
  'came by': 'Came by',
  form: 'Form',
  page: 'Page',
  came: 'First came',
  tags: 'Tags',
  read: 'Of the last 12',
  'last read': 'Last read',
  warmth: 'Warmth',
};
const FIGURES: Column[] = ['warmth', 'came', 'last read'];
const ROW_PX = 53;
/** So many rows before the end the next page is asked for. */
const AHEAD = 15;

type Props = BulkProps & {
  base: string;
  /** The view as the address bar says it; another one begins anew. */
  query: string;
  rows: ReaderLine[];
  next: string | null;
  columns: Column[];
  zone: string;
  now: string;
};

/**
 * Readers, as many as there are: only the rows in sight are drawn, and further ones are fetched before they are reached. Arrows walk, Space chooses, with
 * Shift a range, Ctrl A all; Enter opens.
 */
export function ReaderTable({ base, query, rows, next, columns, zone, now, ...bulk }: Props) {
  const [more, setMore] = useState<ReaderLine[]>([]);
  const [cursor, setCursor] = useState(next);
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const [whole, setWhole] = useState(false);
  const [at, setAt] = useState(0);
  const [fault, setFault] = useState(false);
  const anchor = useRef(0);
  const fetching = useRef(false);
  const body = useRef<HTMLTableSectionElement>(null);
  const router = useRouter();
  const known = new Set(rows.map((row) => row.id));
  const all = [...rows, ...more.filter((row) => !known.has(row.id))];

  const virtual = useWindowVirtualizer({
    count: all.length,
    estimateSize: () => ROW_PX,
    overscan: 12,
    scrollMargin: body.current?.offsetTop ?? 0,
    getItemKey: (n) => all[n]!.id,
  });
  const shown = virtual.getVirtualItems();
  const last = shown.at(-1)?.index ?? 0;

  const fetchMore = useEffectEvent(async () => {
    if (!cursor || fetching.current) return;
    fetching.current = true;
    try {
      const response = await fetch(`${base}/rows?${query}${query && '&'}before=${cursor}`);
      if (!response.ok) throw new Error();
      const page = (await response.json()) as { rows: ReaderLine[]; next: string | null };
      setMore((before) => [...before, ...page.rows]);
      setCursor(page.next);
      setFault(false);
    } catch {
      setFault(true);
    } finally {
      fetching.current = false;
    }
  });
  useEffect(() => {
    if (last >= all.length - AHEAD) void fetchMore();
  }, [last, all.length]);

  const choose = (n: number, { range = false, on }: { range?: boolean; on?: boolean } = {}) => {
    const set = new Set(whole ? all.map((row) => row.id) : chosen);
    const [from, to] = range ? [Math.min(anchor.current, n), Math.max(anchor.current, n)] : [n, n];
    const wanted = on ?? (range || !set.has(all[n]!.id));
    for (const row of all.slice(from, to + 1)) {
      if (wanted) set.add(row.id);
      else set.delete(row.id);
    }
    if (!range) anchor.current = n;
    setWhole(false);
    setChosen(set);
  };
  const walk = (n: number) => {
    const to = Math.max(0, Math.min(all.length - 1, n));
    setAt(to);
    virtual.scrollToIndex(to, { align: 'auto' });
    requestAnimationFrame(() => body.current?.querySelector<HTMLElement>(`[data-n="${to}"]`)?.focus());
  };
  const keys = (event: KeyboardEvent<HTMLTableSectionElement>) => {
    const step = { ArrowDown: 1, ArrowUp: -1, PageDown: 10, PageUp: -10 }[event.key];
    if (step) {
      if (event.shiftKey) choose(Math.max(0, Math.min(all.length - 1, at + step)), { range: true, on: true });
      walk(at + step);
    } else if (event.key === 'Home') walk(0);
    else if (event.key === 'End') walk(all.length - 1);
    else if (event.key === ' ') choose(at, { range: event.shiftKey });
    else if (event.key === 'a' && (event.ctrlKey || event.metaKey)) setChosen(new Set(all.map((row) => row.id)));
    else if (event.key === 'Escape') clear();
    else if (event.key === 'Enter' && event.target === event.currentTarget.querySelector(`[data-n="${at}"]`))
      router.push(`${base}/${all[at]!.id}`);
    else return;
    event.preventDefault();
  };
  const clear = () => {
    setChosen(new Set());
    setWhole(false);
  };
  const isOn = (row: ReaderLine) => whole || chosen.has(row.id);
  const everyShown = all.length > 0 && all.every(isOn);
  const above = shown[0] ? shown[0].start - virtual.options.scrollMargin : 0;
  const below = virtual.getTotalSize() - ((shown.at(-1)?.end ?? 0) - virtual.options.scrollMargin);
  const spoken = (iso: string) => spokenTime(new Date(iso), new Date(now), zone);
  return (
    <>
      {/* biome-ignore-start lint/a11y/noNoninteractiveElementToInteractiveRole: rows are walked and chosen in it, which a table cannot say */}
      <table
        role="grid"
        aria-label="Readers"
        aria-multiselectable
        aria-rowcount={bulk.people === null ? -1 : bulk.people + 1}
        className="w-full border-collapse"
      >
        <thead>
          <tr className="border-b text-left text-[12px] text-ink-2">
            <th scope="col" className="w-9 py-2.5 pl-2.5">
              <input
                type="checkbox"
                aria-label="Choose all that are shown"
                className="size-4 accent-verdigris"
                checked={everyShown}
                onChange={() => (everyShown ? clear() : setChosen(new Set(all.map((row) => row.id))))}
              />
            </th>
            <th scope="col" className="px-2.5 py-2.5 font-semibold">
              Reader
            </th>
            {columns.map((column) => (
              <th
                key={column}
                scope="col"
                className={clsx(
                  'px-2.5 py-2.5 font-semibold whitespace-nowrap max-md:hidden',
                  FIGURES.includes(column) && 'text-right',
                )}
              >
                {TITLES[column]}
              </th>
            ))}
          </tr>
        </thead>
        <tbody ref={body} onKeyDown={keys}>
          {above > 0 && (
            <tr aria-hidden>
              <td style={{ height: above }} />
            </tr>
          )}
          {shown.map(({ index }) => {
            const row = all[index]!;
            const on = isOn(row);
            return (
              <tr
                key={row.id}
                data-n={index}
                aria-rowindex={index + 2}
                aria-selected={on}
                tabIndex={index === at ? 0 : -1}
                onFocus={() => setAt(index)}
                onClick={(event: MouseEvent) => {
                  if (event.shiftKey) choose(index, { range: true, on: true });
                }}
                className={clsx('border-b border-rule-2 align-top', on && 'bg-verdigris-tint')}
                style={{ height: ROW_PX }}
              >
                <td className="py-2.5 pl-2.5">
                  <input
                    type="checkbox"
                    tabIndex={-1}
                    aria-label={`Choose ${row.address}`}
                    className="size-4 accent-verdigris"
                    checked={on}
                    onChange={() => {}}
                    onClick={(event) => {
                      event.stopPropagation();
                      choose(index, { range: event.shiftKey });
                    }}
                  />
                </td>
                <td className="w-full max-w-0 px-2.5 py-2 md:w-[36%] md:min-w-44">
                  <Link href={`${base}/${row.id}`} tabIndex={-1} className="group block">
                    <b className="block truncate group-hover:underline" title={row.address}>
                      {row.address}
                    </b>
                    <span className="block truncate text-small text-ink-2">
                      {row.firstName}
                      <span className="md:hidden">
                        {row.firstName && ', '}
                        {row.standing === 'none' ? 'on no list' : STANDING_WORDS[row.standing]}
                      </span>
                    </span>
                  </Link>
                </td>
                {columns.map((column) => (
                  <td
                    key={column}
                    className={clsx(
                      'px-2.5 py-2.5 max-md:hidden',
                      FIGURES.includes(column) && 'figures text-right whitespace-nowrap',
                    )}
                  >
                    <Cell column={column} row={row} spoken={spoken} />
                  </td>
                ))}
              </tr>
            );
          })}
          {below > 0 && (
            <tr aria-hidden>
              <td style={{ height: below }} />
            </tr>
          )}
        </tbody>
      </table>
      {/* biome-ignore-end lint/a11y/noNoninteractiveElementToInteractiveRole: see above */}
      {fault && (
        <p role="alert" className="mt-3 border-l-2 border-l-stamp pl-3 text-[13px] text-stamp">
          Further readers could not be fetched.{' '}
          <button type="button" className="link" onClick={() => void fetchMore()}>
            Try again
          </button>
        </p>
      )}
      <BulkBar
        {...bulk}
        chosen={whole ? null : [...chosen]}
        whole={whole}
        takeWhole={() => setWhole(true)}
        clear={clear}
        aside={`${cursor ? `The first ${figure(all.length)}` : counted(all.length, 'reader', 'readers')}; arrows and Space work here`}
      />
    </>
  );
}

function Cell({ column, row, spoken }: { column: Column; row: ReaderLine; spoken: (iso: string) => string }) {
  switch (column) {
    case 'state':
      return <StateChip standing={row.standing} address={row.addressState} />;
    case 'lists':
      return (
        <span className="line-clamp-2">
          {row.lists
            .filter((list) => list.state !== 'left')
            .map((list) => list.name)
            .join(', ')}
        </span>
      );
    case 'came by':
      return <span className="line-clamp-2 break-words text-ink-2">{row.source}</span>;
    case 'form':
      return <span className="line-clamp-2 text-ink-2">{row.form}</span>;
    case 'page':
      return <span className="line-clamp-2 break-all text-ink-2">{row.page?.replace(/^https?:\/\/[^/]+/, '')}</span>;
    case 'came':
      return <span className="text-ink-2">{spoken(row.cameAt)}</span>;
    case 'tags':
      return <span className="line-clamp-2 text-ink-2">{row.tags.join(', ')}</span>;
    case 'read':
      return row.read.of < 3 ? <span className="text-ink-2">too early</span> : `${row.read.read} of ${row.read.of}`;
    case 'last read':
      return <span className="text-ink-2">{row.lastReadAt ? spoken(row.lastReadAt) : 'not yet'}</span>;
    case 'warmth':
      return row.warmth === null ? (
        <span className="text-ink-2">unknown</span>
      ) : (
        <span className="inline-flex items-center gap-2">
          <span aria-hidden className="h-1.5 w-11 rounded-full bg-rule-2">
            <span className="block h-full rounded-full bg-verdigris" style={{ width: `${row.warmth}%` }} />
          </span>
          <span className="w-6">{row.warmth}</span>
        </span>
      );
  }
}
