import Link from 'next/link';
import { figure, percent } from '@/core/growth/figures';
import { fullTime, spokenTime } from '@/core/growth/times';
import { hasBegun, type LetterState } from '@/core/sending/letter-state';
import { lineForAll } from '@/core/writing/line';
import { Chip } from '../kit/page';
import { Table } from '../kit/table';

export type LetterLine = {
  id: string;
  subject: string;
  state: LetterState;
  at: Date;
  counted: { opens: boolean; clicks: boolean };
  /** What it needs next, in words; '' for nothing. */
  next?: string;
  counts: {
    recipients: number;
    delivered: number;
    people: number;
    clicked: number;
    left: number;
    bounced: number;
    complained: number;
  };
};

/** Letters with what became of them. Shares are of delivered letters; reads are people's, not machines'. */
export function LetterTable({ letters, slug, now, zone }: { letters: LetterLine[]; slug: string; now: Date; zone: string }) {
  return (
    <Table
      label="Letters"
      columns={[
        { title: 'Letter' },
        { title: 'Sent' },
        { title: 'Delivered', figure: true },
        { title: 'Read by people', figure: true },
        { title: 'Clicked', figure: true },
        { title: 'Left', figure: true },
        { title: 'Bounced', figure: true, hideNarrow: true },
        { title: 'Complained', figure: true, hideNarrow: true },
      ]}
      rows={letters.map(({ id, subject, state, at, counts, counted, next }) => ({
        key: id,
        cells: [
          <span key="l" className="block min-w-40">
            <Link
              href={`/desk/${slug}/letters/${id}${state === 'draft' ? '/write' : ''}`}
              className="line-clamp-2 font-semibold hover:underline"
            >
              {lineForAll(subject) || 'Without a subject'}
            </Link>
            {next && (
              <span className="line-clamp-2 text-small text-ink-2">Next: {next.charAt(0).toLowerCase() + next.slice(1)}</span>
            )}
          </span>,
          <span key="s" className="whitespace-nowrap text-ink-2" title={fullTime(at, zone)}>
            {state === 'sent' ? (
              spokenTime(at, now, zone)
            ) : state === 'scheduled' ? (
              <Chip tone="know">{spokenTime(at, now, zone)}</Chip>
            ) : (
              <Chip tone={state === 'held' ? 'mend' : state === 'paused' || state === 'stopped' ? 'look' : 'know'}>{state}</Chip>
            )}
          </span>,
          !hasBegun(state) ? '–' : figure(counts.delivered),
          counted.opens ? percent(counts.people, counts.delivered) : 'not counted',
          counted.clicks ? percent(counts.clicked, counts.delivered) : 'not counted',
          !hasBegun(state) ? '–' : figure(counts.left),
          !hasBegun(state) ? '–' : figure(counts.bounced),
          !hasBegun(state) ? '–' : figure(counts.complained),
        ],
      }))}
    />
  );
}
