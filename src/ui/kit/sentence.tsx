'use client';

import { Popover, PopoverButton, PopoverPanel } from '@headlessui/react';
import clsx from 'clsx';
import type { ReactNode } from 'react';

/** A rule told in words that one can read aloud; what can be chosen in it is a `Clause`. */
export function Sentence({ children, className }: { children: ReactNode; className?: string }) {
  return <div className={clsx('relative font-serif text-standfirst leading-[29px] text-ink-2', className)}>{children}</div>;
}

/** A part of a sentence with a dotted line under it: it opens its few choices in place. Esc and a click elsewhere close them. */
export function Clause({ words, title, children }: { words: ReactNode; title: string; children: ReactNode }) {
  return (
    <Popover as="span">
      {/* A span, since a button would not break between its words. */}
      <PopoverButton
        as="span"
        role="button"
        tabIndex={0}
        title={title}
        className="cursor-pointer rounded-xs box-decoration-clone text-verdigris-ink underline decoration-dotted decoration-1 underline-offset-4 hover:bg-verdigris-tint data-open:bg-verdigris-tint data-open:decoration-solid"
      >
        {words}
      </PopoverButton>
      <PopoverPanel
        focus
        // Under the whole sentence and never over what is above it, where what it tells of may stand.
        className="absolute top-full left-0 z-40 mt-1.5 w-full max-w-[380px] space-y-3 rounded-lg border bg-sheet p-4 font-sans text-[14px] leading-5 text-ink shadow-float"
      >
        <p className="font-serif text-head">{title}</p>
        {children}
      </PopoverPanel>
    </Popover>
  );
}
