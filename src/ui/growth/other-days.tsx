'use client';

import { Popover, PopoverButton, PopoverPanel } from '@headlessui/react';
import clsx from 'clsx';
import { useId } from 'react';
import { Button } from '../kit/button';

type Props = {
  from: string;
  to: string;
  today: string;
  against: string;
  others: { value: string; label: string }[];
  /** Are days chosen now that are none of the usual spans? */
  chosen: boolean;
};
const FIELD = 'mt-1 block w-full rounded-md border bg-sheet px-2.5 py-2 text-[13.5px] font-normal text-ink';
const LABEL = 'block text-small font-semibold text-ink-2';

/** Chooses any days, and what they are held against. The address keeps both. */
export function OtherDays({ from, to, today, against, others, chosen }: Props) {
  const id = useId();
  return (
    <Popover className="relative">
      <PopoverButton
        className={clsx(
          'h-full rounded-r-md px-3 py-1.5 text-[13px] font-medium',
          chosen ? 'bg-ink text-paper' : 'bg-sheet text-ink-2',
        )}
      >
        Other days
      </PopoverButton>
      <PopoverPanel
        focus
        className="absolute top-full right-0 z-40 mt-1.5 w-72 rounded-lg border bg-sheet p-4 text-[14px] shadow-float"
      >
        <form method="get" className="space-y-3">
          <label className={LABEL}>
            From
            <input type="date" name="from" defaultValue={from} max={today} required className={FIELD} />
          </label>
          <label className={LABEL}>
            To
            <input type="date" name="to" defaultValue={to} max={today} required className={FIELD} />
          </label>
          <div>
            <label htmlFor={id} className={LABEL}>
              Beside
            </label>
            <select id={id} name="vs" defaultValue={against} className={FIELD}>
              {others.map(({ value, label }) => (
                <option key={value} value={value}>
                  {label}
                </option>
              ))}
            </select>
          </div>
          <Button type="submit" tone="main">
            Show these days
          </Button>
        </form>
      </PopoverPanel>
    </Popover>
  );
}
