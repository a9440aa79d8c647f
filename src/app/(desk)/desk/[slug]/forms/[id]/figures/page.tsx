import type { Metadata } from 'next';
import Link from 'next/link';
import { formInWords } from '@/core/forms/sentence';
import { figure, percent, plural } from '@/core/growth/figures';
import { wordOf } from '@/core/growth/measures';
import { type Rate, rate } from '@/core/growth/rates';
import { ago, fullTime, spokenTime } from '@/core/growth/times';
import { formOf, versionsOf } from '@/server/forms/forms';
import { type HeldReason, heldBack, MOST_HELD, MOST_HELD_OF_NETWORK } from '@/server/forms/held';
import { type Counted, insightOf } from '@/server/forms/insight';
import { testOf } from '@/server/forms/tests';
import { listsOf } from '@/server/readers/readers';
import { voiceOf } from '@/server/senders/senders';
import { ActionButton } from '@/ui/kit/action-form';
import { Chip, Note, Screen, Section, Standfirst } from '@/ui/kit/page';
import { Table } from '@/ui/kit/table';
import { deskOf, orNotFound } from '../../../../../../desk';
import { archive, beginTest, discard, dropAllHeld, dropOneHeld, duplicate, finishTest, letHeldIn, restore } from '../../actions';

export const metadata: Metadata = { title: 'Form, its figures' };

const span = (found: Rate | null) =>
  found ? `${percent(found.share, 1)}, surely ${percent(found.low, 1)} to ${percent(found.high, 1)}` : '–';

const WHY: Record<HeldReason, string> = {
  quick: 'Sent sooner than most people type',
  trap: 'Filled in what nobody can see',
  busy: 'Came in a crowd',
  often: 'Came very often',
};

const SHOWN = 100;

/** What a form brought, who was held back, its test and its versions. */
export default async function Page({ params }: { params: Promise<{ slug: string; id: string }> }) {
  const { slug, id } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const form = await orNotFound(formOf(ctx, newsletter, id));
  const [versions, insight, test, held, lists, voice] = await Promise.all([
    versionsOf(ctx, newsletter, id),
    insightOf(ctx, newsletter, form.id),
    testOf(ctx, newsletter, id),
    heldBack(ctx, newsletter, form.id),
    listsOf(ctx, newsletter),
    voiceOf(ctx, ctx.db, newsletter, form.definition.next.confirmation.senderId),
  ]);
  const now = ctx.clock.now();
  const zone = newsletter.time_zone;
  const { days, stayed } = insight;
  const told = formInWords(form.definition, {
    lists: lists.filter((list) => form.listIds.includes(list.id)),
    sender: voice.name,
  });
  const counts: [string, string, string][] = [
    [wordOf('shown'), figure(days.loaded), `${figure(days.seen)} really seen`],
    [wordOf('begun'), figure(days.started), `${percent(days.started, days.seen)} of seen`],
    [wordOf('signedUp'), figure(days.asked), span(rate(days.asked, days.loaded))],
    [wordOf('confirmed'), figure(days.confirmed), span(rate(days.confirmed, days.asked))],
    [wordOf('reading'), figure(days.reading), `${percent(days.reading, days.confirmed)} of confirmed`],
  ];
  const edit = `/desk/${slug}/forms/${id}`;
  return (
    <Screen
      margin={
        <>
          <Section title="As it is">
            {told.map((sentence) => (
              <p key={sentence} className="mt-2 font-serif text-[16px] leading-6 text-ink-2">
                {sentence}
              </p>
            ))}
            <p className="mt-3 text-[13px]">
              <Link href={edit} className="link">
                Change it
              </Link>
            </p>
          </Section>
          <Section title="Those who stayed">
            <p className="mt-2 text-[13px] text-ink-2">
              Of <b className="text-ink">{figure(stayed.of)}</b> who came by it more than 30 days ago and confirmed,{' '}
              <b className="text-ink">{figure(stayed.still)}</b> {plural(stayed.still, 'reads', 'read')} now
              {stayed.of > 0 && `: ${percent(stayed.still, stayed.of)}`}.
            </p>
          </Section>
        </>
      }
    >
      <Standfirst title={form.name} trail={[{ label: 'Forms', href: `/desk/${slug}/forms` }]}>
        In the last 28 days <b>{figure(days.asked)}</b> signed up by it, and <b>{figure(days.reading)}</b> of them{' '}
        {plural(days.reading, 'reads', 'read')} now.
      </Standfirst>
      {form.archivedAt && (
        <Note tone="look" title="This form is put away">
          Pages that still carry it show nothing.
        </Note>
      )}
      <dl className="figures mb-1.5 grid grid-cols-2 divide-rule rounded-lg border bg-sheet sm:grid-cols-5 sm:divide-x">
        {counts.map(([label, value, under]) => (
          <div key={label} className="px-4 py-3">
            <dt className="text-[13px] text-ink-2">{label}</dt>
            <dd>
              <span className="block font-serif text-[23px] leading-7">{value}</span>
              <span className="text-small text-ink-2">{under}</span>
            </dd>
          </div>
        ))}
      </dl>
      <p className="mb-7 text-small text-ink-2">
        Visits of the last 28 days, and the people who first came in them. “Surely” is where the true rate lies in 19 of 20 cases.
      </p>

      <section id="held">
        <Section
          title={wordOf('held')}
          aside={held.length >= MOST_HELD ? `${figure(MOST_HELD)} or more` : held.length ? figure(held.length) : 'nobody'}
        >
          {held.length === 0 ? (
            <p className="py-2.5 text-ink-2">
              Nobody. What looks like a machine’s has to show work, which a browser does unseen; what shows none stands here for
              30 days, and you can let a person in.
            </p>
          ) : (
            <>
              <p className="py-2.5 text-ink-2">
                They were told that they are not signed up yet, and did not come back. Letting somebody in sends them the
                confirmation letter; only their own click puts them on a list. Of a crowd from one network the first{' '}
                {MOST_HELD_OF_NETWORK} are kept{held.length > SHOWN ? `; here are the newest ${SHOWN}` : ''}.
              </p>
              <Table
                label="Sign-ups that were held back"
                columns={[
                  { title: 'Address' },
                  { title: 'Why', hideNarrow: true },
                  { title: 'When', figure: true },
                  { title: 'What to do', silent: true },
                ]}
                rows={held.slice(0, SHOWN).map((one) => ({
                  key: one.key,
                  cells: [
                    <span key="a" className="break-all">
                      {one.address}
                    </span>,
                    WHY[one.reason],
                    <span key="t" title={fullTime(one.at, zone)}>
                      {ago(one.at, now)}
                    </span>,
                    <span key="d" className="flex justify-end gap-2">
                      <ActionButton action={letHeldIn.bind(null, slug, id, one.key)} done="The confirmation letter is on its way">
                        Let in
                      </ActionButton>
                      <ActionButton action={dropOneHeld.bind(null, slug, id, one.key)} done="Let go">
                        Let go
                      </ActionButton>
                    </span>,
                  ],
                }))}
              />
              <div className="mt-3">
                <ActionButton action={dropAllHeld.bind(null, slug, id)} done="All let go">
                  Let all of them go
                </ActionButton>
              </div>
            </>
          )}
        </Section>
      </section>

      <div className="grid gap-x-7 md:grid-cols-2">
        <Section title="Where readers came from">
          <CountedList rows={insight.sources} none="Nobody came through this form yet." />
        </Section>
        <Section title="Which pages brought them">
          <CountedList rows={insight.pages} none="No page is known yet." />
        </Section>
      </div>
      {insight.campaigns.length > 0 && (
        <Section title="Campaigns">
          <CountedList rows={insight.campaigns} none="" />
        </Section>
      )}
      <Section title="Seen on" aside="where it was really loaded">
        {insight.places.length === 0 ? (
          <p className="py-2.5 text-ink-2">
            On no page yet. Open the page that carries the form, then come back here: a page is counted when its visitor turns
            away from it.
          </p>
        ) : (
          <Table
            label="Pages that carry the form"
            columns={[{ title: 'Page' }, { title: 'Loaded', figure: true }, { title: 'Last', figure: true }]}
            rows={insight.places.map((place) => ({
              key: place.host + place.path,
              cells: [
                <span key="p" className="break-all">
                  {place.host + place.path}
                </span>,
                figure(place.loads),
                <span key="t" title={fullTime(place.lastAt, zone)}>
                  {ago(place.lastAt, now)}
                </span>,
              ],
            }))}
          />
        )}
      </Section>

      <Section
        title="Form test"
        aside={test ? `since ${spokenTime(test.startedAt, now, zone)}` : 'two versions, shown at random'}
      >
        {test ? (
          <>
            <p className="py-2.5">
              Version B (“{test.heading}”) is better with a probability of <b>{percent(test.bWins, 1)}</b>.{' '}
              <span className="text-ink-2">
                {test.bWins > 0.95 || test.bWins < 0.05
                  ? 'That is as sure as it needs to be.'
                  : 'Let it run on: this may still turn.'}
              </span>
            </p>
            <Table
              label="The two versions"
              columns={[
                { title: 'Version' },
                { title: 'Shown', figure: true },
                { title: 'Sent in', figure: true },
                { title: 'Confirmed', figure: true },
                { title: 'Of shown', figure: true },
              ]}
              rows={(['a', 'b'] as const).map((arm) => ({
                key: arm,
                cells: [
                  arm === 'a' ? 'A, the form as it is' : 'B, the other one',
                  figure(test[arm].shown),
                  figure(test[arm].sentIn),
                  figure(test[arm].confirmed),
                  span(test[arm].rate),
                ],
              }))}
            />
            <div className="mt-3 flex gap-2">
              <ActionButton action={finishTest.bind(null, slug, id, 'a')} done="Version A stays">
                End it, keep A
              </ActionButton>
              <ActionButton action={finishTest.bind(null, slug, id, 'b')} done="Version B is live">
                End it, keep B
              </ActionButton>
            </div>
          </>
        ) : (
          <div className="flex flex-wrap items-center justify-between gap-3 py-2.5">
            <p className="max-w-xl text-ink-2">
              Change something and, instead of publishing it, show it to half of your visitors.
            </p>
            <ActionButton action={beginTest.bind(null, slug, id)} done="Half of your visitors see version B now">
              Test the draft as version B
            </ActionButton>
          </div>
        )}
      </Section>

      <Section title="Versions" aside={`${versions.length} published`}>
        <Table
          label="Versions"
          columns={[{ title: 'Version' }, { title: 'Heading' }, { title: 'Published' }, { title: 'What to do', silent: true }]}
          rows={versions.slice(0, 12).map((entry) => ({
            key: String(entry.version),
            cells: [
              `${entry.version}`,
              entry.heading,
              <span key="t" className="text-ink-2">
                {spokenTime(entry.publishedAt, now, zone)}
              </span>,
              entry.version === form.version ? (
                <Chip key="c" tone="fine">
                  live
                </Chip>
              ) : (
                <ActionButton
                  key="r"
                  action={restore.bind(null, slug, id, entry.version)}
                  done="It is your draft now. Publish it to bring it back."
                >
                  Bring back
                </ActionButton>
              ),
            ],
          }))}
        />
        <div className="mt-3 flex flex-wrap gap-2">
          {form.draft && (
            <ActionButton action={discard.bind(null, slug, id)} done="The draft is gone; what is live stays">
              Throw the draft away
            </ActionButton>
          )}
          <ActionButton action={duplicate.bind(null, slug, id)}>Duplicate</ActionButton>
          {!form.hosted && (
            <ActionButton
              action={archive.bind(null, slug, id, form.archivedAt === null)}
              done={form.archivedAt ? 'It is in use again' : 'Put away'}
            >
              {form.archivedAt ? 'Use it again' : 'Put it away'}
            </ActionButton>
          )}
        </div>
      </Section>
    </Screen>
  );
}

function CountedList({ rows, none }: { rows: Counted[]; none: string }) {
  if (rows.length === 0) return <p className="py-2.5 text-ink-2">{none}</p>;
  return (
    <ul>
      {rows.map((row) => (
        <li key={row.name} className="flex items-baseline justify-between gap-3 border-b border-rule-2 py-2">
          <span className="min-w-0 break-all">{row.name}</span>
          <span className="figures shrink-0 text-small text-ink-2">
            <b className="text-[14px] text-ink">{figure(row.confirmed)}</b> of {figure(row.readers)}
          </span>
        </li>
      ))}
    </ul>
  );
}
