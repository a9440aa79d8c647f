import type { Metadata } from 'next';
import Link from 'next/link';
import { counted, figure, percent } from '@/core/growth/figures';
import { fullTime, spokenTime } from '@/core/growth/times';
import { isSettled, middleOf, SORTS, type Sort, sorted } from '@/core/sending/compare';
import { lineForAll } from '@/core/writing/line';
import { lettersCompared, MOST_COMPARED } from '@/server/sending/compared';
import { ButtonLink } from '@/ui/kit/button';
import { Empty, Screen, Section, Standfirst } from '@/ui/kit/page';
import { Table } from '@/ui/kit/table';
import { LettersChart } from '@/ui/sending/letters-chart';
import { deskOf } from '../../../../../desk';

export const metadata: Metadata = { title: 'Letters compared' };
type Props = { params: Promise<{ slug: string }>; searchParams: Promise<{ by?: string; up?: string }> };

const COLUMNS: { by: Sort; title: string; figure: boolean }[] = [
  { by: 'subject', title: 'Letter', figure: false },
  { by: 'sent', title: 'Sent', figure: false },
  { by: 'delivered', title: 'Delivered', figure: true },
  { by: 'read', title: 'Read', figure: true },
  { by: 'clicked', title: 'Clicked', figure: true },
  { by: 'left', title: 'Left', figure: true },
  { by: 'back', title: 'Came back', figure: true },
  { by: 'complained', title: 'Complained', figure: true },
];

export default async function Page({ params, searchParams }: Props) {
  const [{ slug }, asked] = await Promise.all([params, searchParams]);
  const { ctx, newsletter } = await deskOf(slug);
  const letters = await lettersCompared(ctx, newsletter);
  const base = `/desk/${slug}/letters`;
  const by = SORTS.find((one) => one === asked.by) ?? 'sent';
  const up = asked.up === '1';
  // What left in the last two days is still being read: it would look worse than it is.
  const settled = letters.filter((letter) => isSettled(letter, ctx.clock.now()));
  const middle = middleOf(settled);
  const usual = (share: number) => percent(Math.round(1e6 * share), 1e6);
  const order = (column: Sort) => `${base}/compare?by=${column}${column === by && !up ? '&up=1' : ''}`;
  return (
    <Screen>
      <Standfirst
        title="Letters compared"
        trail={[{ label: 'Letters', href: base }]}
        actions={
          letters.length > 0 && (
            <ButtonLink href={`${base}/compare/csv`} file>
              Take them out as CSV
            </ButtonLink>
          )
        }
      >
        {settled.length === 0 ? (
          <>Letters that have left stand here side by side.</>
        ) : (
          <>
            Of <b>{counted(settled.length, 'letter', 'letters')}</b> that had their two days, the middle one was read by{' '}
            <b>{usual(middle.read)}</b> of those who got it, and <b>{usual(middle.clicked)}</b> followed a link.
          </>
        )}
      </Standfirst>
      {letters.length === 0 ? (
        <Empty title="No letter has left yet" action={<ButtonLink href={base}>To your letters</ButtonLink>}>
          Once one has, what became of it is held against the others here.
        </Empty>
      ) : (
        <>
          <Section title="From letter to letter" aside="shares of those who got it, of letters older than two days">
            <LettersChart
              letters={[...settled].reverse().map((letter) => ({
                subject: lineForAll(letter.subject) || 'Without a subject',
                at: letter.at.toISOString(),
                day: spokenTime(letter.at, ctx.clock.now(), newsletter.time_zone),
                read: letter.read && letter.delivered ? letter.read.least / letter.delivered : null,
                clicked: letter.clicked !== null && letter.delivered ? letter.clicked / letter.delivered : null,
                left: letter.left,
              }))}
            />
          </Section>
          <Section
            title="All of them"
            aside={
              letters.length === MOST_COMPARED ? `the latest ${figure(MOST_COMPARED)}; the file has all` : 'press a title to sort'
            }
          >
            <Table
              label="Letters compared"
              columns={COLUMNS.map(({ by: column, ...rest }) => ({
                ...rest,
                sort: { href: order(column), is: column !== by ? undefined : up ? 'ascending' : 'descending' },
              }))}
              rows={sorted(letters, by, up).map((letter) => ({
                key: letter.id,
                cells: [
                  <span key="l" className="block min-w-44">
                    <Link href={`${base}/${letter.id}`} className="line-clamp-2 font-semibold hover:underline">
                      {lineForAll(letter.subject) || 'Without a subject'}
                    </Link>
                    <span className="text-small text-ink-2">
                      {[
                        !isSettled(letter, ctx.clock.now()) && 'still in its first two days',
                        letter.again && 'sent a second time',
                        letter.versions > 1 && `tried in ${letter.versions} versions`,
                      ]
                        .filter(Boolean)
                        .join(', ')}
                    </span>
                  </span>,
                  <span key="s" className="whitespace-nowrap text-ink-2" title={fullTime(letter.at, newsletter.time_zone)}>
                    {spokenTime(letter.at, ctx.clock.now(), newsletter.time_zone)}
                  </span>,
                  figure(letter.delivered),
                  <span key="r">
                    {letter.read ? percent(letter.read.least, letter.delivered) : 'not counted'}
                    {letter.read && letter.read.most > letter.read.least && (
                      <span className="text-small text-ink-2 md:block">
                        {' '}
                        at most {percent(Math.min(letter.delivered, letter.read.most), letter.delivered)}
                      </span>
                    )}
                  </span>,
                  letter.clicked === null ? 'not counted' : percent(letter.clicked, letter.delivered),
                  figure(letter.left),
                  figure(letter.back),
                  figure(letter.complained),
                ],
              }))}
            />
          </Section>
        </>
      )}
    </Screen>
  );
}
