import clsx from 'clsx';
import Link from 'next/link';
import { AGAINST, type Against, type Days, dayAfter, PERIODS, type Period } from '@/core/growth/periods';
import { OtherDays } from './other-days';

type Props = {
  looked: { period: Period | null; against: Against; beside: Days; words: string; days?: Days };
  today: string;
  /** Any days may be chosen, and what they are held against. */
  chooses?: boolean;
};

const STEP = 'border-r px-3 py-1.5 text-[13px] font-medium last:border-r-0';

/** Chooses how far a screen looks back; the address keeps it. */
export function PeriodNav({ looked, today, chooses }: Props) {
  const against = looked.against === 'before' ? '' : `&vs=${looked.against}`;
  return (
    <nav aria-label="Period" className="inline-flex rounded-md border">
      {Object.entries(PERIODS).map(([value, label]) => (
        <Link
          key={value}
          href={`?days=${value}${against}`}
          aria-current={Number(value) === looked.period ? 'page' : undefined}
          className={clsx(
            STEP,
            'first:rounded-l-md last:rounded-r-md',
            Number(value) === looked.period ? 'bg-ink text-paper' : 'bg-sheet text-ink-2',
          )}
        >
          {label}
        </Link>
      ))}
      {chooses && (
        <OtherDays
          from={looked.days?.from ?? dayAfter(today, -27)}
          to={looked.days?.to ?? today}
          today={today}
          against={looked.against}
          others={Object.entries(AGAINST).map(([value, label]) => ({ value, label }))}
          chosen={looked.period === null}
        />
      )}
    </nav>
  );
}
