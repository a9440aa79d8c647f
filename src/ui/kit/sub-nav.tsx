'use client';

import clsx from 'clsx';
import Link from 'next/link';
import { usePathname } from 'next/navigation';

type Props = {
  label: string;
  parts: { href: string; label: string }[];
  /** Which of them this is, where the path alone does not tell. */
  here?: string;
};

/** The parts of a screen that has several, as a line of words under its title. */
export function SubNav({ label, parts, here }: Props) {
  const pathname = usePathname();
  const at = here ?? pathname;
  // A page below one of them belongs to it; the shortest is above all the others.
  const path = parts.findLast((part, n) => at === part.href || (n > 0 && at.startsWith(`${part.href}/`)))?.href;
  return (
    <nav aria-label={label} className="mb-6 flex flex-wrap gap-x-6 border-b">
      {parts.map((part) => (
        <Link
          key={part.href}
          href={part.href}
          aria-current={path === part.href ? 'page' : undefined}
          className={clsx(
            '-mb-px border-b-2 py-2 text-[14px]',
            path === part.href ? 'border-ink font-semibold' : 'border-transparent text-ink-2 hover:text-ink',
          )}
        >
          {part.label}
        </Link>
      ))}
    </nav>
  );
}
