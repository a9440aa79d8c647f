import type { Metadata } from 'next';
import Link from 'next/link';
import { counted, figure } from '@/core/growth/figures';
import { fullTime, spokenTime } from '@/core/growth/times';
import { type ReaderFilter, readersPage, totalsOf } from '@/server/readers/readers';
import { ButtonLink } from '@/ui/kit/button';
import { Empty, Screen, Standfirst } from '@/ui/kit/page';
import { Table } from '@/ui/kit/table';
import { ReaderFilters } from '@/ui/readers/filters';
import { StateChip } from '@/ui/readers/state-chip';
import { deskOf } from '../../../../desk';

export const metadata: Metadata = { title: 'Readers' };

const STATES = ['reading', 'waiting', 'left', 'bouncing'] as const;
type Query = { q?: string; state?: string; before?: string };

export default async function Page({
  params,
  searchParams,
}: {
  params: Promise<{ slug: string }>;
  searchParams: Promise<Query>;
}) {
  const { slug } = await params;
  const query = await searchParams;
  const { ctx, newsletter } = await deskOf(slug);
  const filter: ReaderFilter = { find: query.q, state: STATES.find((state) => state === query.state), before: query.before };
  const [page, totals] = await Promise.all([readersPage(ctx, newsletter, filter), totalsOf(ctx, newsletter)]);
  const now = ctx.clock.now();
  const everyone = totals.reading + totals.waiting + totals.left + totals.unreachable;
  const next = new URLSearchParams({
    ...(query.q ? { q: query.q } : {}),
    ...(query.state ? { state: query.state } : {}),
    before: page.next ?? '',
  });
  return (
    <Screen>
      <Standfirst title="Readers">
        {everyone === 0 ? (
          <>Everyone who asked for your letters stands here, with where they came from and what they agreed to.</>
        ) : (
          <>
            <b>{counted(totals.reading, 'person reads', 'people read')}</b> your letters;{' '}
            {counted(totals.waiting, 'waits', 'wait')} for their own confirmation, {figure(totals.left)} left
            {totals.unreachable > 0 && <>, and {counted(totals.unreachable, 'address', 'addresses')} cannot be reached</>}.
          </>
        )}
      </Standfirst>
      {everyone === 0 ? (
        <Empty
          title="No readers yet"
          action={
            <ButtonLink tone="main" href={`/desk/${slug}/forms`}>
              Put a form on your site
            </ButtonLink>
          }
        >
          Readers come through a sign-up form and confirm by email.
        </Empty>
      ) : (
        <>
          <ReaderFilters find={query.q ?? ''} state={filter.state ?? ''} />
          {page.rows.length === 0 ? (
            <Empty title="Nobody fits">Change the words or the state above.</Empty>
          ) : (
            <Table
              label="Readers"
              columns={[
                { title: 'Reader' },
                { title: 'State' },
                { title: 'Came from', hideNarrow: true },
                { title: 'Page', hideNarrow: true },
                { title: 'First came', figure: true },
              ]}
              rows={page.rows.map((reader) => ({
                key: reader.id,
                cells: [
                  <Link key="r" href={`/desk/${slug}/readers/${reader.id}`} className="group block min-w-0">
                    <b className="break-all group-hover:underline">{reader.address}</b>
                    {reader.firstName && <span className="block text-small text-ink-2">{reader.firstName}</span>}
                  </Link>,
                  <StateChip key="s" state={reader.state} address={reader.addressState} />,
                  <span key="f" className="text-ink-2">
                    {reader.source ?? 'unknown'}
                  </span>,
                  <span key="p" className="line-clamp-1 break-all text-ink-2">
                    {reader.page?.replace(/^https?:\/\/[^/]+/, '') ?? ''}
                  </span>,
                  <span key="t" className="whitespace-nowrap text-ink-2" title={fullTime(reader.joinedAt, newsletter.time_zone)}>
                    {spokenTime(reader.joinedAt, now, newsletter.time_zone)}
                  </span>,
                ],
              }))}
            />
          )}
          <div className="mt-4 flex gap-2">
            {query.before && <ButtonLink href={`/desk/${slug}/readers`}>Newest</ButtonLink>}
            {page.next && <ButtonLink href={`/desk/${slug}/readers?${next}`}>Earlier readers</ButtonLink>}
          </div>
        </>
      )}
    </Screen>
  );
}
