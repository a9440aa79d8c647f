import type { Metadata } from 'next';
import Link from 'next/link';
import { redirect } from 'next/navigation';
import { REASONS } from '@/core/delivery/reason';
import { counted, figure } from '@/core/growth/figures';
import { fullTime, spokenTime } from '@/core/growth/times';
import { may } from '@/core/newsletters/roles';
import { hasBegun } from '@/core/sending/letter-state';
import { lineForAll } from '@/core/writing/line';
import { RECIPIENT_SHELVES, type RecipientRow, type RecipientShelf, recipientsOf, SHELF_WORDS } from '@/server/sending/results';
import { letterOf } from '@/server/sending/views';
import { Button, ButtonLink } from '@/ui/kit/button';
import { Chip, type NoteTone, Screen, Standfirst } from '@/ui/kit/page';
import { SubNav } from '@/ui/kit/sub-nav';
import { Table } from '@/ui/kit/table';
import { deskOf, orNotFound } from '../../../../../../desk';
import { shelfOf } from './shelf';

export const metadata: Metadata = { title: 'Recipients' };
type Props = {
  params: Promise<{ slug: string; id: string }>;
  searchParams: Promise<{ show?: string; find?: string; after?: string }>;
};

const STATES: Record<RecipientRow['state'], [string, NoteTone]> = {
  kept: ['waits for the test', 'know'],
  queued: ['on its way', 'know'],
  claimed: ['being sent', 'know'],
  delivered: ['delivered', 'fine'],
  bounced: ['bounced', 'mend'],
  refused: ['refused', 'mend'],
  'given up': ['given up', 'mend'],
  cancelled: ['cancelled', 'look'],
};

export default async function Page({ params, searchParams }: Props) {
  const [{ slug, id }, asked] = await Promise.all([params, searchParams]);
  const { ctx, newsletter } = await deskOf(slug);
  const letter = await orNotFound(letterOf(ctx, newsletter, id));
  const base = `/desk/${slug}/letters/${id}`;
  if (!hasBegun(letter.state)) redirect(base);
  const shelf = shelfOf(asked.show);
  const find = (asked.find ?? '').slice(0, 200);
  const after = /^\d{1,18}$/.test(asked.after ?? '') ? asked.after! : null;
  const { rows, more } = await recipientsOf(ctx, newsletter, id, { shelf, find, after });
  const now = ctx.clock.now();
  const when = (at: Date | null) =>
    at ? (
      <span title={fullTime(at, newsletter.time_zone)} className="whitespace-nowrap">
        {spokenTime(at, now, newsletter.time_zone)}
      </span>
    ) : (
      '–'
    );
  const query = (more: Record<string, string>) => {
    const all = new URLSearchParams({ ...(shelf !== 'all' && { show: shelf }), ...(find && { find }), ...more }).toString();
    return all ? `?${all}` : '';
  };
  const { counts } = letter;
  const waiting = Math.max(
    0,
    counts.recipients - counts.delivered - counts.bounced - counts.refused - counts.givenUp - counts.cancelled,
  );
  // What is counted as it happens; who has not opened it is only known by looking.
  const many: Partial<Record<RecipientShelf, number>> = {
    all: counts.recipients,
    delivered: counts.delivered,
    read: counts.people,
    hidden: counts.hidden,
    clicked: counts.clicked,
    waiting,
    back: counts.bounced + counts.refused + counts.givenUp,
    cancelled: counts.cancelled,
    left: counts.left,
  };
  return (
    <Screen>
      <Standfirst
        title={lineForAll(letter.subject) || 'Without a subject'}
        trail={[
          { label: 'Letters', href: `/desk/${slug}/letters` },
          { label: 'Its result', href: base },
        ]}
        actions={
          may(newsletter.role, 'edit') && (
            <ButtonLink href={`${base}/recipients/csv${query({})}`} file>
              Take them out as CSV
            </ButtonLink>
          )
        }
      >
        It has <b>{counted(counts.recipients, 'recipient', 'recipients')}</b>
        {waiting > 0 && <>, of whom {counted(waiting, 'waits', 'wait')} for it</>}.
      </Standfirst>
      <SubNav
        label="Recipients"
        here={shelf === 'all' ? `${base}/recipients` : `${base}/recipients?show=${shelf}`}
        parts={RECIPIENT_SHELVES.filter((one) => letter.counted.opens || !['read', 'unread', 'hidden'].includes(one)).map(
          (one) => ({
            href: one === 'all' ? `${base}/recipients` : `${base}/recipients?show=${one}`,
            label: many[one] === undefined ? SHELF_WORDS[one] : `${SHELF_WORDS[one]} ${figure(many[one])}`,
          }),
        )}
      />
      <form className="mb-4 flex max-w-md gap-2">
        {shelf !== 'all' && <input type="hidden" name="show" value={shelf} />}
        <input
          type="search"
          name="find"
          defaultValue={find}
          aria-label="A part of an address"
          placeholder="A part of an address"
          className="min-w-0 flex-1 rounded-md border bg-sheet px-2.5 py-2 text-[13.5px] leading-5"
        />
        <Button type="submit">Find</Button>
      </form>
      {rows.length === 0 ? (
        <p className="py-8 text-ink-2">{find ? 'Nobody of such an address.' : 'Nobody.'}</p>
      ) : (
        <Table
          label="Recipients"
          columns={[
            { title: 'Address' },
            { title: 'State' },
            ...(letter.test ? [{ title: 'Version', figure: true }] : []),
            { title: 'Delivered' },
            { title: 'Opened' },
            { title: 'By a machine' },
            { title: 'Clicked' },
            { title: 'Left' },
            { title: 'What the mailbox said', hideNarrow: true },
          ]}
          rows={rows.map((row) => ({
            key: row.copy,
            cells: [
              row.known ? (
                <Link key="a" href={`/desk/${slug}/readers/${row.readerId}`} className="link break-all">
                  {row.address}
                </Link>
              ) : (
                <span key="a" className="text-ink-2">
                  erased
                </span>
              ),
              <Chip key="s" tone={STATES[row.state][1]}>
                {STATES[row.state][0]}
              </Chip>,
              ...(letter.test ? [row.state === 'kept' ? '–' : row.version + 1] : []),
              when(row.delivered),
              letter.counted.opens ? when(row.opened) : 'not counted',
              letter.counted.opens ? when(row.byMachine) : 'not counted',
              letter.counted.clicks ? when(row.clicked) : 'not counted',
              when(row.left),
              <span
                key="r"
                className="line-clamp-3 text-small [overflow-wrap:anywhere] text-ink-2"
                title={row.response ?? undefined}
              >
                {row.reason && <b className="text-ink">{REASONS[row.reason][0]}. </b>}
                {row.response}
              </span>,
            ],
          }))}
        />
      )}
      {more && (
        <p className="mt-4">
          <Link className="link" href={`${base}/recipients${query({ after: more })}`}>
            The next hundred
          </Link>
        </p>
      )}
    </Screen>
  );
}
