import clsx from 'clsx';
import Link from 'next/link';
import type { ReactNode } from 'react';

/** A screen: the matter on the left, the margin of notes on the right (below on narrow screens). */
export function Screen({ children, margin }: { children: ReactNode; margin?: ReactNode }) {
  return (
    <div className="mx-auto flex max-w-[1440px] flex-col gap-x-7 gap-y-8 px-4 py-5 sm:px-7 lg:flex-row">
      <main id="matter" tabIndex={-1} className="min-w-0 flex-1 focus:outline-none">
        {children}
      </main>
      {margin && <aside className="w-full shrink-0 lg:w-[296px]">{margin}</aside>}
    </div>
  );
}

type StandfirstProps = { title: string; trail?: { label: string; href: string }[]; actions?: ReactNode; children: ReactNode };

/** The title and the one true sentence that every screen opens with. */
export function Standfirst({ title, trail, actions, children }: StandfirstProps) {
  return (
    <header className="mb-7">
      {trail && (
        <nav aria-label="Where you are" className="text-small text-ink-2">
          {trail.map((step) => (
            <span key={step.href}>
              <Link href={step.href} className="link">
                {step.label}
              </Link>{' '}
              /{' '}
            </span>
          ))}
        </nav>
      )}
      <div className="flex flex-wrap items-end justify-between gap-4">
        <div className="min-w-0 flex-1 basis-80">
          <h1 className="font-serif text-title break-words">{title}</h1>
          <p className="mt-1 max-w-[56rem] font-serif text-standfirst text-ink-2 [&_b]:font-semibold [&_b]:text-ink">
            {children}
          </p>
        </div>
        {actions && <div className="flex flex-wrap gap-2">{actions}</div>}
      </div>
    </header>
  );
}

/** A part of a screen under a serif heading with a hairline. */
export function Section({
  id,
  title,
  aside,
  children,
  className,
}: {
  /** Makes it one that can be given the focus. */
  id?: string;
  title: string;
  aside?: ReactNode;
  children: ReactNode;
  className?: string;
}) {
  return (
    <section id={id} tabIndex={id ? -1 : undefined} className={clsx('mb-8', className)}>
      <div className="flex items-baseline justify-between gap-3 border-b pb-2.5">
        <h2 className="font-serif text-head">{title}</h2>
        {aside && <span className="text-right text-small text-ink-2">{aside}</span>}
      </div>
      {children}
    </section>
  );
}

export type NoteTone = 'fine' | 'look' | 'mend' | 'know';
const NOTE_RULE: Record<NoteTone, string> = {
  fine: 'border-l-verdigris',
  look: 'border-l-ochre',
  mend: 'border-l-stamp',
  know: 'border-l-rule',
};
const NOTE_WORD: Record<NoteTone, string> = { fine: 'Fine', look: 'Have a look', mend: 'To mend', know: 'Good to know' };

/** A margin note: a bold line, one or two sentences, at most one action. */
export function Note({
  tone,
  title,
  children,
  action,
}: {
  tone: NoteTone;
  title: string;
  children?: ReactNode;
  action?: { label: string; href: string };
}) {
  return (
    <div className={clsx('my-2.5 border-l-2 py-0.5 pl-3.5 text-[13px] leading-[19px] text-ink-2', NOTE_RULE[tone])}>
      <p className="font-semibold [overflow-wrap:anywhere] text-ink">
        <span className="sr-only">{NOTE_WORD[tone]}: </span>
        {title}
      </p>
      {(children || action) && (
        <p>
          {children}{' '}
          {action && (
            <Link href={action.href} className="link font-medium">
              {action.label}
            </Link>
          )}
        </p>
      )}
    </div>
  );
}

const CHIP = {
  fine: 'bg-verdigris-tint text-verdigris-ink',
  look: 'bg-ochre-tint text-ochre',
  mend: 'bg-stamp-tint text-stamp',
  know: 'bg-slate-tint text-slate',
};

/** A state in two or three words. */
export function Chip({ tone, children }: { tone: NoteTone; children: ReactNode }) {
  return (
    <span
      className={clsx('inline-block whitespace-nowrap rounded-sm px-1.5 py-0.5 text-[12px] font-semibold leading-4', CHIP[tone])}
    >
      {children}
    </span>
  );
}

/** What stands where nothing is yet: what it is for, and what to do first. */
export function Empty({ title, children, action }: { title: string; children: ReactNode; action?: ReactNode }) {
  return (
    <div className="my-4 border-y border-dashed py-8 text-center">
      <p className="font-serif text-head">{title}</p>
      <p className="mx-auto mt-1 max-w-md text-ink-2">{children}</p>
      {action && <div className="mt-4">{action}</div>}
    </div>
  );
}

/** A panel in which something is edited or framed. */
export function Sheet({ children, className }: { children: ReactNode; className?: string }) {
  return <div className={clsx('rounded-lg border bg-sheet p-5', className)}>{children}</div>;
}
