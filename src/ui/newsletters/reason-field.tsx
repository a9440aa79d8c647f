'use client';

import { Check, CircleDashed } from 'lucide-react';
import { useState } from 'react';
import { checkReasonLine } from '@/core/newsletters/reason-line';
import { LongField } from '../kit/action-form';

/** The reason line with its checks and the colophon it will stand in, made anew with every letter typed. */
export function ReasonField({
  value,
  name,
  site,
  postalAddress,
}: {
  value: string;
  name: string;
  site: string;
  postalAddress: string;
}) {
  const [line, setLine] = useState(value);
  return (
    <div>
      <LongField
        name="reasonLine"
        label="Reason line"
        value={line}
        onChange={(event) => setLine(event.target.value)}
        hint="Why this person gets the letter. It is read by people who forgot."
      />
      <ul className="mt-2 grid gap-x-4 gap-y-1 text-small sm:grid-cols-2">
        {checkReasonLine(line, { name, site }).map((check) => (
          <li key={check.label} className="flex gap-1.5">
            {check.holds ? (
              <Check size={14} className="mt-0.5 shrink-0 text-verdigris" aria-label="holds" />
            ) : (
              <CircleDashed size={14} className="mt-0.5 shrink-0 text-ochre" aria-label="not yet" />
            )}
            <span className={check.holds ? 'text-ink-2' : ''}>
              {check.label}
              {!check.holds && <span className="block text-ink-2">{check.hint}</span>}
            </span>
          </li>
        ))}
      </ul>
      <div className="mt-3 rounded-lg border bg-sheet p-4 text-[13px] leading-5 text-ink-2">
        <span className="mb-2 block text-[12px] font-semibold text-ink-3">At the end of every letter</span>
        {line}
        <br />
        {postalAddress.replace(/\r?\n/g, ', ')}
        <br />
        <span className="underline">Leave this list</span>
      </div>
    </div>
  );
}
