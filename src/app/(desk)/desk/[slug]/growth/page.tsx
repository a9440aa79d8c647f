import { DateTime } from 'luxon';
import type { Metadata } from 'next';
import { localDay } from '@/core/growth/days';
import { figure, percent } from '@/core/growth/figures';
import { wordOf } from '@/core/growth/measures';
import { AGAINST, lookedAt } from '@/core/growth/periods';
import { type Rate, rate } from '@/core/growth/rates';
import { formsOf } from '@/server/forms/forms';
import { compareForms, type FormResult } from '@/server/forms/insight';
import { funnelOf, LOST } from '@/server/growth/funnel';
import { growthOf, type Span } from '@/server/growth/growth';
import { type Dimension, listsGrown, type SourceCount, sourcesOf } from '@/server/growth/sources';
import { warningsNow } from '@/server/growth/watch';
import { FunnelSteps } from '@/ui/growth/funnel-steps';
import { Cohorts, Goal, Notes, Stayers } from '@/ui/growth/growing';
import { PeriodNav } from '@/ui/growth/period-nav';
import { ReadersCurve } from '@/ui/growth/readers-curve';
import { Warnings } from '@/ui/growth/warnings';
import { Screen, Section, Standfirst } from '@/ui/kit/page';
import { Table } from '@/ui/kit/table';
import { deskOf } from '../../../../desk';
import { changeGoal, forgetNote, noteDay } from './actions';

export const metadata: Metadata = { title: 'Growth' };

const TITLES: Record<Dimension, [title: string, none: string]> = {
  form: ['By form', 'Nobody came through a form.'],
  page: ['By page', 'No page is known.'],
  source: ['By source', 'No source is known.'],
  'kind of source': ['By kind of source', 'No source is known.'],
  'first source': ['By where they first came from', 'No first visit is known; the line for your whole site keeps it.'],
  placement: ['By placement', 'No placement is known.'],
  medium: ['By medium', 'No link with a utm_medium brought anybody.'],
  campaign: ['By campaign', 'No link with a utm_campaign brought anybody.'],
  referrer: ['By the page that led here', 'No referring page is known; browsers seldom pass more than its site.'],
  'search words': ['By what they searched for', 'No words are known; few search engines pass them.'],
};

/** The long table of pages has a column nearly to itself. */
const COLUMNS: Dimension[][] = [
  ['form', 'source', 'kind of source', 'first source', 'search words'],
  ['page', 'placement', 'medium', 'campaign', 'referrer'],
];

const span = (found: Rate | null) =>
  found ? `${percent(found.share, 1)} (${percent(found.low, 1)} to ${percent(found.high, 1)})` : '–';

type Props = { params: Promise<{ slug: string }>; searchParams: Promise<Record<string, string | undefined>> };

export default async function Page({ params, searchParams }: Props) {
  const { slug } = await params;
  const asked = await searchParams;
  const { ctx, newsletter } = await deskOf(slug);
  const today = localDay(ctx.clock.now(), newsletter.time_zone);
  const looked = lookedAt(asked, 28, today);
  const { days, beside, words } = looked;
  const [growth, funnel, sources, lists, forms, unusual] = await Promise.all([
    growthOf(ctx, newsletter, days, beside),
    funnelOf(ctx, newsletter, days),
    sourcesOf(ctx, newsletter, days),
    listsGrown(ctx, newsletter, days),
    formsOf(ctx, newsletter),
    warningsNow(ctx, newsletter, ['few confirm', 'few join']),
  ]);
  const a = forms.find((form) => form.id === asked.a) ?? forms[0];
  const b = forms.find((form) => form.id === asked.b) ?? forms.find((form) => form.id !== a?.id);
  const pair = a && b && a.id !== b.id ? await compareForms(ctx, newsletter, [a.id, b.id], days) : null;
  // What comes is drawn after today alone.
  const ahead = (days.to === today ? (growth.forecast?.weeks ?? []) : []).map((one) => ({
    ...one,
    day: DateTime.fromISO(growth.forecast!.from).plus({ weeks: one.week }).toISODate()!,
  }));
  const last = ahead.at(-1);
  // Of those on lists, without those whose address takes no mail.
  const reads = (onLists: number) => Math.max(0, onLists - growth.unreachable);
  return (
    <Screen
      margin={
        <>
          <Goal goal={growth.goal} readers={growth.reading + growth.unreachable} action={changeGoal.bind(null, slug)} />
          <Section title="Joined and left" aside={words}>
            <Spans now={growth.now} before={growth.before} against={AGAINST[looked.against]} />
          </Section>
          {growth.causes.length > 0 && (
            <Section title="Why people ended" aside={words}>
              <Table
                label="Why people ended"
                columns={[{ title: 'Why' }, { title: 'People', figure: true }]}
                rows={growth.causes.map(({ cause, n }) => ({ key: cause, cells: [cause, figure(n)] }))}
              />
            </Section>
          )}
          <Notes
            notes={growth.notes}
            today={today}
            add={noteDay.bind(null, slug)}
            drop={(id) => forgetNote.bind(null, slug, id)}
          />
        </>
      }
    >
      <Standfirst title="Growth" actions={<PeriodNav looked={looked} today={today} chooses />}>
        {growth.reading + growth.unreachable === 0 && sources.asked === 0 ? (
          <>Nobody reads yet. Put a form where your readers finish a post, and they appear here.</>
        ) : (
          <>
            <b>{figure(growth.reading)}</b> people read now. {looked.period ? `In ${words}` : `From ${words}`}{' '}
            <b>{figure(growth.now.joined)}</b> joined and <b>{figure(growth.now.left)}</b> left
            {last ? (
              <>
                ; if it goes on as lately, about <b>{figure(reads(last.readers))}</b> will read in three months (
                {figure(reads(last.low))} to {figure(reads(last.high))})
              </>
            ) : null}
            .
          </>
        )}
      </Standfirst>
      <Warnings warnings={unusual} />
      <Section title="Readers" aside={`${words}${ahead.length ? ', and the next three months' : ''}`}>
        <ReadersCurve curve={growth.curve} ahead={ahead} goal={growth.goal?.readers ?? null} notes={growth.notes} />
        {ahead.length > 0 ? (
          <p className="mt-1 max-w-2xl text-small text-ink-2">
            The forecast takes it that as many come and go each week as lately. Its band is as wide as such forecasts, made from
            your own past weeks, missed what came: it holds in eight of ten cases.
          </p>
        ) : (
          days.to === today && (
            <p className="mt-1 text-small text-ink-2">What comes is told once people have joined for twelve weeks.</p>
          )
        )}
      </Section>
      {funnel.steps.loaded + funnel.steps.asked > 0 && (
        <Section title="From seen to reading" aside={`by a form, ${words}`}>
          <FunnelSteps
            steps={funnel.steps}
            firstRead={funnel.firstRead}
            stayed={funnel.stayed}
            junk={funnel.junk}
            held={funnel.held}
            lost={{
              of: funnel.lost.of,
              more: funnel.lost.more,
              why: funnel.lost.why.map(({ why, n }) => ({ words: LOST[why], n })),
            }}
          />
        </Section>
      )}
      {growth.staying.length > 0 && (
        <Section title="Who stays, by source" aside="came in the year before last month">
          <Stayers rows={growth.staying} />
        </Section>
      )}
      {growth.cohorts.length > 0 && (
        <Section title="By the month in which they came">
          <Cohorts rows={growth.cohorts} />
        </Section>
      )}
      {lists.length > 1 && (
        <Section title="By list" aside={words}>
          <Table
            label="By list"
            columns={[
              { title: 'List' },
              { title: 'Came to it', figure: true },
              { title: 'Left it', figure: true },
              { title: wordOf('reading'), figure: true },
            ]}
            rows={lists.map((list) => ({
              key: list.id,
              cells: [list.name, figure(list.joined), figure(list.left), figure(list.reading)],
            }))}
          />
          <p className="mt-1.5 text-small text-ink-2">
            Who came to a list in these days and reads it now, and who left it in them. Somebody on two lists counts in both.
          </p>
        </Section>
      )}
      <div className="grid gap-x-7 2xl:grid-cols-2">
        {COLUMNS.map((column) => (
          <div key={column.join()} className="min-w-0">
            {column.map((dimension) => (
              <Section key={dimension} title={TITLES[dimension][0]}>
                <Counted dimension={dimension} rows={sources.by[dimension]} />
              </Section>
            ))}
          </div>
        ))}
      </div>
      <Section title="Two forms side by side" aside={words}>
        {pair && a && b ? (
          <>
            <form method="get" className="flex flex-wrap items-end gap-3 py-2.5">
              {looked.period ? (
                <input type="hidden" name="days" value={looked.period} />
              ) : (
                Object.entries(days).map(([name, day]) => <input key={name} type="hidden" name={name} value={day} />)
              )}
              <FormChoice name="a" label="This form" value={a.id} forms={forms} />
              <FormChoice name="b" label="beside this one" value={b.id} forms={forms} />
              <button type="submit" className="rounded-md border bg-sheet px-3.5 py-2 text-[13.5px] font-semibold">
                Compare
              </button>
            </form>
            <p className="py-1.5">
              “{b.name}” turns more of those who see it into readers with a probability of <b>{percent(pair.bWins, 1)}</b>.{' '}
              <span className="text-ink-2">
                {pair.bWins > 0.95 || pair.bWins < 0.05
                  ? 'They stood before different people, so this says which brings more, not why.'
                  : 'That is not enough to tell them apart.'}
              </span>
            </p>
            <Compared names={[a.name, b.name]} steps={[pair.a, pair.b]} />
            <p className="mt-1.5 text-small text-ink-2">In brackets: where the true rate lies in 19 of 20 cases.</p>
          </>
        ) : (
          <p className="py-2.5 text-ink-2">With a second form you can compare the two here.</p>
        )}
      </Section>
    </Screen>
  );
}

/** Who joined, left, and what came of it, beside other days. */
function Spans({ now, before, against }: { now: Span; before: Span; against: string }) {
  const signed = (n: number) => (n < 0 ? `−${figure(-n)}` : `+${figure(n)}`);
  return (
    <Table
      label="Joined and left"
      columns={[
        { title: 'What', silent: true },
        { title: 'These days', figure: true },
        { title: against.charAt(0).toUpperCase() + against.slice(1), figure: true },
      ]}
      rows={[
        { key: 'j', cells: [wordOf('joined'), figure(now.joined), figure(before.joined)] },
        { key: 'l', cells: [wordOf('left'), figure(now.left), figure(before.left)] },
        { key: 'n', cells: ['Net', signed(now.joined - now.left), signed(before.joined - before.left)] },
      ]}
    />
  );
}

function Counted({ dimension, rows }: { dimension: Dimension; rows: SourceCount[] }) {
  const [title, none] = TITLES[dimension];
  if (rows.length === 0) return <p className="py-2.5 text-ink-2">{none}</p>;
  return (
    <Table
      label={title}
      columns={[
        { title: 'Name' },
        { title: wordOf('signedUp'), figure: true },
        { title: wordOf('confirmed'), figure: true },
        { title: 'Of signed up', figure: true, hideNarrow: true },
        { title: wordOf('reading'), figure: true, hideNarrow: true },
      ]}
      rows={rows.map((row) => ({
        key: row.name,
        cells: [
          <span key="n" className="wrap-anywhere">
            {row.name}
          </span>,
          figure(row.asked),
          figure(row.confirmed),
          percent(row.confirmed, row.asked),
          figure(row.reading),
        ],
      }))}
    />
  );
}

function FormChoice({
  name,
  label,
  value,
  forms,
}: {
  name: string;
  label: string;
  value: string;
  forms: { id: string; name: string }[];
}) {
  return (
    <label className="min-w-0 text-small font-semibold text-ink-2">
      {label}
      <select
        name={name}
        defaultValue={value}
        className="mt-1 block w-full max-w-72 rounded-md border bg-sheet px-2.5 py-2 text-[13.5px] font-normal text-ink"
      >
        {forms.map((form) => (
          <option key={form.id} value={form.id}>
            {form.name}
          </option>
        ))}
      </select>
    </label>
  );
}

function Compared({ names, steps }: { names: [string, string]; steps: [FormResult, FormResult] }) {
  const rows: [label: string, count: (one: FormResult) => string, share: (one: FormResult) => string][] = [
    [wordOf('shown'), ({ days }) => figure(days.loaded), () => ''],
    [wordOf('seen'), ({ days }) => figure(days.seen), ({ days }) => span(rate(days.seen, days.loaded))],
    [wordOf('begun'), ({ days }) => figure(days.started), ({ days }) => span(rate(days.started, days.seen))],
    [wordOf('signedUp'), ({ days }) => figure(days.asked), ({ days }) => span(rate(days.asked, days.loaded))],
    [wordOf('confirmed'), ({ days }) => figure(days.confirmed), ({ days }) => span(rate(days.confirmed, days.asked))],
    ['Confirmed, of shown', () => '', ({ days }) => span(rate(days.confirmed, days.loaded))],
    [
      'Still here, of all who came over 30 days ago',
      ({ stayed }) => figure(stayed.still),
      ({ stayed }) => span(rate(stayed.still, stayed.of)),
    ],
  ];
  return (
    <Table
      label="Two forms side by side"
      columns={[{ title: 'Step' }, { title: names[0], figure: true }, { title: names[1], figure: true }]}
      rows={rows.map(([label, count, share]) => ({
        key: label,
        cells: [
          label,
          ...steps.map((one, n) => (
            <span key={names[n]}>
              {count(one)}
              {share(one) && <span className="block text-small text-ink-2">{share(one)}</span>}
            </span>
          )),
        ],
      }))}
    />
  );
}
