'use client';

import { Search } from 'lucide-react';
import { useRouter } from 'next/navigation';
import { type ReactNode, useEffect, useRef, useState } from 'react';
import type { ActionResult } from '@/core/faults';
import { counted, percent } from '@/core/growth/figures';
import {
  COLUMNS,
  type Column,
  conditionOf,
  EVERYONE,
  isNarrowed,
  narrowedTo,
  ORDERS,
  type Order,
  type View,
  writeView,
} from '@/core/readers/view';
import { TextField } from '../kit/action-form';
import { Choice, Tick } from '../kit/controls';
import { ActionDialog } from '../kit/dialog';
import { Clause, Sentence } from '../kit/sentence';
import type { SentenceChoices } from './clause-settings';
import { ConditionSentence } from './condition-sentence';
import { type ReaderLine, ReaderTable } from './reader-table';

const PAUSE_MS = 200;
const ORDER_WORDS: Record<Order, string> = {
  newest: 'the newest first',
  oldest: 'the oldest first',
  address: 'by address',
  warmest: 'the warmest first',
  coldest: 'the coldest first',
};

type Props = {
  base: string;
  view: View;
  everyone: number;
  choices: SentenceChoices;
  rows: ReaderLine[];
  next: string | null;
  columns: Column[];
  zone: string;
  now: string;
  /** Another one where an act on readers has ended since. */
  version: string;
  /** Another one where the totals have changed. */
  stamp: string;
  act: (raw: unknown) => Promise<ActionResult<unknown>>;
  take: (raw: unknown) => Promise<ActionResult<unknown>>;
  /** Remembers the columns for the next visit too. */
  choose: (columns: Column[]) => Promise<void>;
  keep: (raw: unknown) => Promise<ActionResult<{ id: string }>>;
  adding: ReactNode;
  empty: ReactNode;
};

/** Where one looks for readers: words, a sentence, and the rows that fit. The address bar holds all of it. */
export function Looking({
  base,
  view: given,
  everyone,
  choices,
  rows,
  next,
  columns,
  zone,
  now,
  version,
  stamp,
  act,
  take,
  choose,
  keep,
  adding,
  empty,
}: Props) {
  const router = useRouter();
  const query = writeView(given).toString();
  // What somebody chooses stands here at once; the address bar follows, and what it says otherwise (Back, a link) holds.
  const [view, setView] = useState(given);
  const [seen, setSeen] = useState(query);
  const [sent, setSent] = useState<string[]>([]);
  if (query !== seen) {
    setSeen(query);
    if (query === sent.at(-1)) setSent([]);
    else if (!sent.includes(query)) {
      setSent([]);
      setView(given);
    }
  }
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  const count = useCount(base, query, `${version} ${stamp}`);
  const people = count?.exact ? count.people : null;
  // Each choice can be gone back from; letters that are typed are one. A pause is waited for: who types makes no choice with each letter.
  const go = (change: Partial<View>, typed = false) => {
    const next = { ...view, ...change };
    const params = writeView(next);
    setView(next);
    setSent(params.toString() === query ? [] : [...sent, params.toString()]);
    clearTimeout(timer.current);
    timer.current = setTimeout(
      () => router[typed ? 'replace' : 'push'](`${base}${params.size ? `?${params}` : ''}`, { scroll: false }),
      PAUSE_MS,
    );
  };
  useEffect(() => () => clearTimeout(timer.current), []);
  return (
    <>
      <search className="mb-3 flex flex-wrap gap-2.5">
        <span className="relative min-w-60 flex-1">
          <Search size={15} aria-hidden className="absolute top-2.5 left-3 text-ink-2" />
          <input
            type="search"
            aria-label="Find by address, name or answer"
            placeholder="Address, name or answer"
            value={view.find}
            onChange={(event) => go({ find: event.target.value }, true)}
            className="w-full rounded-md border bg-sheet py-2 pr-2.5 pl-9 text-[13.5px] leading-5"
          />
        </span>
        {adding}
      </search>
      <div className="mb-2 border-l-2 border-l-verdigris bg-sheet px-4 py-3">
        <Sentence>
          <ConditionSentence of={narrowedTo(view)} value={view.where} change={(where) => go({ where })} choices={choices} />
          <span className="ml-2">
            <Clause words={ORDER_WORDS[view.order]} title="In which order">
              <Choice
                label="Order"
                value={view.order}
                change={(order) => go({ order })}
                choices={ORDERS.map((value) => ({ value, label: ORDER_WORDS[value] }))}
              />
              <fieldset className="space-y-2">
                <legend className="mb-1 text-small font-semibold text-ink-2">Columns</legend>
                {COLUMNS.map((column) => (
                  <Tick
                    key={column}
                    label={column[0]!.toUpperCase() + column.slice(1)}
                    on={columns.includes(column)}
                    change={(on) => void choose(COLUMNS.filter((one) => (one === column ? on : columns.includes(one))))}
                  />
                ))}
              </fieldset>
            </Clause>
          </span>
        </Sentence>
        <p className="mt-1.5 flex flex-wrap items-baseline gap-x-4 text-[13.5px]">
          <b aria-live="polite">
            {count === null ? 'Counting …' : `${count.exact ? '' : 'about '}${counted(count.people, 'person', 'people')}`}
          </b>
          {people !== null && everyone > 0 && <span className="text-small text-ink-2">{percent(people, everyone)} of all</span>}
          {isNarrowed(view) && (
            <span className="ml-auto flex gap-4">
              <ActionDialog
                opens="Keep as a segment"
                opensTone="quiet"
                title="Keep this as a segment"
                words="A segment holds whoever fits at the moment when it is asked, not those of today."
                submit="Keep it"
                done="Kept"
                action={async (data) => {
                  const result = await keep({ name: data.get('name'), condition: conditionOf(view) });
                  if (result.ok) router.replace(`${base}?segment=${result.value.id}`, { scroll: false });
                  return result;
                }}
              >
                <TextField name="name" label="Name" placeholder="Cold for half a year" />
                {view.find !== '' && <p className="text-small text-ink-2">The words in the search field are not part of it.</p>}
              </ActionDialog>
              <button
                type="button"
                className="link text-[13px] font-medium"
                onClick={() => {
                  go({
                    find: '',
                    state: null,
                    list: null,
                    tag: null,
                    source: null,
                    form: null,
                    segment: null,
                    warmth: null,
                    where: EVERYONE,
                  });
                }}
              >
                Clear
              </button>
            </span>
          )}
        </p>
      </div>
      {rows.length === 0 ? (
        empty
      ) : (
        <ReaderTable
          key={`${query} ${version}`}
          base={base}
          query={query}
          rows={rows}
          next={next}
          columns={columns}
          zone={zone}
          now={now}
          act={act}
          take={take}
          fields={choices.fields}
          view={{ condition: conditionOf(given), find: given.find }}
          people={people}
          lists={choices.lists}
          tags={choices.tags}
        />
      )}
    </>
  );
}

type Count = { people: number; exact: boolean };
/** How many people a view shows, counted beside the rows: about so many at first, where they are very many; null until anything is known. */
function useCount(base: string, query: string, version: string): Count | null {
  const [count, setCount] = useState<({ of: string } & Count) | null>(null);
  const of = `${query} ${version}`;
  useEffect(() => {
    const away = new AbortController();
    const ask = async (how: string): Promise<Count> => {
      const response = await fetch(`${base}/count?${query}${how}`, { signal: away.signal });
      if (!response.ok) throw new Error();
      const said: Count = await response.json();
      setCount({ of, ...said });
      return said;
    };
    ask(`${query && '&'}count=soon`)
      .then((said) => (said.exact ? said : ask('')))
      // Without a count nobody is misled: everything that needs it waits.
      .catch(() => {});
    return () => away.abort();
  }, [base, query, of]);
  return count?.of === of ? count : null;
}
