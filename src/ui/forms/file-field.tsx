'use client';

import { useState } from 'react';
import type { ActionResult } from '@/core/faults';

type Props<T> = {
  label: string;
  hint: string;
  accept?: string;
  keep: (data: FormData) => Promise<ActionResult<T>>;
  /** Told once the file is kept; returns what is said of it. */
  kept: (value: T) => string;
};

/** A file that is sent at once when it is chosen, and what became of it. */
export function FileField<T>({ label, hint, accept, keep, kept }: Props<T>) {
  const [said, setSaid] = useState('');
  return (
    <div>
      <input
        type="file"
        aria-label={label}
        accept={accept}
        className="block w-full text-[13px] text-ink-2 file:mr-3 file:rounded-md file:border file:border-solid file:border-rule file:bg-sheet file:px-3 file:py-1.5 file:font-semibold file:text-ink"
        onChange={async (event) => {
          const file = event.target.files?.[0];
          if (!file) return;
          setSaid('Keeping it');
          const data = new FormData();
          data.set('file', file);
          const result = await keep(data).catch(() => null);
          if (!result) return setSaid('This could not be sent. Perhaps it is too large, or we could not be reached.');
          setSaid(result.ok ? kept(result.value) : result.error.sentence);
        }}
      />
      <p role="status" className="mt-1 text-small text-ink-2">
        {said || hint}
      </p>
    </div>
  );
}
