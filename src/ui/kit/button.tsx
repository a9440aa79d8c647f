'use client';

import clsx from 'clsx';
import Link from 'next/link';
import type { ButtonHTMLAttributes, ReactNode } from 'react';
import { useAlive } from './alive';

type Tone = 'main' | 'plain' | 'harm';
const SHAPE =
  'inline-flex items-center justify-center gap-2 rounded-md border px-3.5 py-2 text-[13.5px] font-semibold leading-5 whitespace-nowrap';
const TONES: Record<Tone, string> = {
  main: 'border-transparent bg-verdigris text-on-verdigris hover:bg-verdigris-ink',
  plain: 'border-rule bg-sheet text-ink hover:border-ink-3',
  harm: 'border-transparent bg-stamp text-sheet hover:opacity-90',
};

/** A button. What a script does for it is not offered before the page has come alive. */
export function Button({ tone = 'plain', className, ...rest }: ButtonHTMLAttributes<HTMLButtonElement> & { tone?: Tone }) {
  const alive = useAlive();
  return (
    <button
      type="button"
      {...rest}
      disabled={rest.disabled || (!alive && rest.onClick !== undefined)}
      className={clsx(SHAPE, TONES[tone], alive && 'disabled:opacity-60', className)}
    />
  );
}

type LinkProps = {
  tone?: Tone;
  href: string;
  children: ReactNode;
  /** Leads to a file, which is no page. */
  file?: boolean;
};
export function ButtonLink({ tone = 'plain', href, children, file }: LinkProps) {
  if (file)
    return (
      <a href={href} download className={clsx(SHAPE, TONES[tone])}>
        {children}
      </a>
    );
  return (
    <Link href={href} className={clsx(SHAPE, TONES[tone])}>
      {children}
    </Link>
  );
}
