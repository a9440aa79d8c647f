'use client';

import { Check, Copy as CopyIcon } from 'lucide-react';
import { useState } from 'react';
import { toast } from 'sonner';

/** Copies a text with one click and says so. */
export function Copy({ text, what, label }: { text: string; what: string; label?: string }) {
  const [done, setDone] = useState(false);
  // What is written on it begins its name (WCAG 2.5.3).
  const name = label ? `${label}: ${what}` : `Copy ${what}`;
  return (
    <button
      type="button"
      aria-label={name}
      title={name}
      className="inline-flex items-center gap-1.5 rounded-sm p-1 align-middle text-[13px] font-semibold text-ink-2 hover:text-verdigris"
      onClick={async () => {
        try {
          await navigator.clipboard.writeText(text);
          setDone(true);
          toast.success(`Copied: ${what}`);
          setTimeout(() => setDone(false), 2_000);
        } catch {
          toast.error('Your browser did not allow copying. Select the text and copy it by hand.');
        }
      }}
    >
      {done ? <Check size={15} aria-hidden /> : <CopyIcon size={15} aria-hidden />}
      {label}
    </button>
  );
}
