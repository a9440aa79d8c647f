import type { ReactNode } from 'react';

/** A page that says one thing, and what can be done about it. */
export const Said = ({ title, sentence, children }: { title: string; sentence: ReactNode; children?: ReactNode }) => (
  <main className="mx-auto max-w-xl px-5 py-[16vh]">
    <h1 className="font-serif text-title">{title}</h1>
    <p className="mt-2 font-serif text-standfirst text-ink-2">{sentence}</p>
    {children}
  </main>
);
