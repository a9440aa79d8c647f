import clsx from 'clsx';
import Link from 'next/link';
import { PERIODS, type Period } from '@/core/growth/periods';

/** Chooses how far a screen looks back; the address keeps it. */
export function PeriodNav({ days }: { days: Period }) {
  return (
    <nav aria-label="Period" className="inline-flex overflow-hidden rounded-md border">
      {Object.entries(PERIODS).map(([value, label]) => (
        <Link
          key={value}
          href={`?days=${value}`}
          aria-current={Number(value) === days ? 'page' : undefined}
          className={clsx(
            'border-r px-3 py-1.5 text-[13px] font-medium last:border-r-0',
            Number(value) === days ? 'bg-ink text-paper' : 'bg-sheet text-ink-2',
          )}
        >
          {label}
        </Link>
      ))}
    </nav>
  );
}
