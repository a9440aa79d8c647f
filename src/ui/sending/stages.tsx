'use client';

import clsx from 'clsx';
import Link from 'next/link';

const STAGES = [
  { name: 'Write', path: '/write' },
  { name: 'Address', path: '/address' },
  { name: 'Proof', path: '/write?see=proof' },
  { name: 'Send', path: '/send' },
] as const;
export type Stage = (typeof STAGES)[number]['name'];

/** The four stages of a letter; one can always go back. */
export function Stages({ base, here, go }: { base: string; here: Stage; go?: (stage: Stage) => void }) {
  return (
    <nav aria-label="Stages" className="flex flex-wrap items-baseline gap-x-4 gap-y-1 text-[14px]">
      {STAGES.map(({ name, path }, n) => (
        <Link
          key={name}
          href={base + path}
          aria-current={name === here ? 'step' : undefined}
          onClick={() => go?.(name)}
          className={clsx('pb-0.5', name === here ? 'border-b-2 border-ink font-semibold' : 'text-ink-2 hover:text-ink')}
        >
          <small className="mr-1 text-ink-2">{n + 1}</small> {name}
        </Link>
      ))}
    </nav>
  );
}

/** The bar over a letter's stages, with what can be done beside them. */
export function StageBar({ base, here, children }: { base: string; here: Stage; children?: React.ReactNode }) {
  return (
    <section
      aria-label="This letter"
      className="sticky top-0 z-10 flex flex-wrap items-center gap-x-6 gap-y-2 border-b bg-paper px-4 py-2.5 sm:px-7"
    >
      <Stages base={base} here={here} />
      {children && <div className="ml-auto flex flex-wrap gap-2">{children}</div>}
    </section>
  );
}
