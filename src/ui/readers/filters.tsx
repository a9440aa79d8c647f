'use client';

import { useRouter } from 'next/navigation';
import { useRef, useState } from 'react';

const STATES = [
  { value: '', label: 'Everyone' },
  { value: 'reading', label: 'Reading' },
  { value: 'waiting', label: 'Waiting' },
  { value: 'left', label: 'Left' },
  { value: 'bouncing', label: 'Cannot be reached' },
];

/** Narrows the readers; the address bar holds the choice, so that it can be shared and Back works. */
export function ReaderFilters({ find, state }: { find: string; state: string }) {
  const router = useRouter();
  const [words, setWords] = useState(find);
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  const narrow = (q: string, kind: string) => {
    clearTimeout(timer.current);
    const query = new URLSearchParams({ ...(q ? { q } : {}), ...(kind ? { state: kind } : {}) });
    router.replace(`?${query}`, { scroll: false });
  };
  const BOX = 'rounded-md border bg-sheet px-2.5 py-2 text-[13.5px]';
  return (
    <search className="mb-3 flex flex-wrap gap-2">
      <input
        type="search"
        aria-label="Find by address or name"
        placeholder="Address or name"
        value={words}
        onChange={(event) => {
          const { value } = event.target;
          setWords(value);
          clearTimeout(timer.current);
          timer.current = setTimeout(() => narrow(value, state), 200);
        }}
        className={`${BOX} w-64`}
      />
      <select aria-label="State" value={state} onChange={(event) => narrow(words, event.target.value)} className={BOX}>
        {STATES.map((choice) => (
          <option key={choice.value} value={choice.value}>
            {choice.label}
          </option>
        ))}
      </select>
    </search>
  );
}
