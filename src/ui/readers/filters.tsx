'use client';

import { useRouter } from 'next/navigation';
import { useEffect, useState } from 'react';

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
  const [kind, setKind] = useState(state);
  useEffect(() => {
    if (words === find && kind === state) return;
    const timer = setTimeout(() => {
      const query = new URLSearchParams({ ...(words ? { q: words } : {}), ...(kind ? { state: kind } : {}) });
      router.replace(`?${query}`, { scroll: false });
    }, 200);
    return () => clearTimeout(timer);
  }, [words, kind, find, state, router]);
  const BOX = 'rounded-md border bg-sheet px-2.5 py-2 text-[13.5px]';
  return (
    <search className="mb-3 flex flex-wrap gap-2">
      <input
        type="search"
        aria-label="Find by address or name"
        placeholder="Address or name"
        value={words}
        onChange={(event) => setWords(event.target.value)}
        className={`${BOX} w-64`}
      />
      <select aria-label="State" value={kind} onChange={(event) => setKind(event.target.value)} className={BOX}>
        {STATES.map((choice) => (
          <option key={choice.value} value={choice.value}>
            {choice.label}
          </option>
        ))}
      </select>
    </search>
  );
}
