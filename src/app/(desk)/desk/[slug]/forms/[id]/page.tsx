import type { Metadata } from 'next';
import { formCodes, siteSnippet } from '@/core/forms/codes';
import { effectiveLook } from '@/core/forms/look';
import { figure, percent } from '@/core/growth/figures';
import { type Rate, rate } from '@/core/growth/rates';
import { ago, fullTime, spokenTime } from '@/core/growth/times';
import { fieldsOf } from '@/server/forms/fields';
import { formOf, versionsOf } from '@/server/forms/forms';
import { type Counted, insightOf } from '@/server/forms/insight';
import { testOf } from '@/server/forms/tests';
import { listsOf } from '@/server/readers/readers';
import { sendersOf } from '@/server/senders/senders';
import { FormEditor } from '@/ui/forms/form-editor';
import { ActionButton } from '@/ui/kit/action-form';
import { Chip, Note, Section } from '@/ui/kit/page';
import { Table } from '@/ui/kit/table';
import { deskOf, orNotFound } from '../../../../../desk';
import {
  addPicture,
  archive,
  beginTest,
  discard,
  duplicate,
  endTry,
  finishTest,
  giveFile,
  keepDraft,
  publish,
  restore,
  showPage,
  tryForm,
} from '../actions';

export const metadata: Metadata = { title: 'Form' };

const span = (found: Rate | null) =>
  found ? `${percent(found.share, 1)}, surely ${percent(found.low, 1)} to ${percent(found.high, 1)}` : '–';

type Props = { params: Promise<{ slug: string; id: string }>; searchParams: Promise<{ again?: string }> };

export default async function Page({ params, searchParams }: Props) {
  const { slug, id } = await params;
  const { again } = await searchParams;
  const { ctx, newsletter, person } = await deskOf(slug);
  const form = await orNotFound(formOf(ctx, newsletter, id));
  const [lists, known, senders, versions, insight, test] = await Promise.all([
    listsOf(ctx, newsletter),
    fieldsOf(ctx, newsletter),
    sendersOf(ctx, newsletter),
    versionsOf(ctx, newsletter, id),
    insightOf(ctx, newsletter, form.id),
    testOf(ctx, newsletter, id),
  ]);
  const now = ctx.clock.now();
  const zone = newsletter.time_zone;
  const { days, stayed } = insight;
  const live = { ...form.definition, look: effectiveLook(form.definition.look, newsletter.colour) };
  const written = form.draft ?? form;
  const counts: [string, string, string][] = [
    ['Shown', figure(days.loaded), `${figure(days.seen)} really seen`],
    ['Begun', figure(days.started), `${percent(days.started, days.seen)} of seen`],
    ['Sent in', figure(days.sentIn), span(rate(days.sentIn, days.loaded))],
    ['Confirmed', figure(days.confirmed), span(rate(days.confirmed, days.sentIn))],
    ['Still here, day 30', figure(stayed.still), `${percent(stayed.still, stayed.of)} of ${figure(stayed.of)}`],
  ];
  return (
    <FormEditor
      // The editor keeps what is typed; only when the server has put something else in its place does it begin anew.
      key={`${form.version}-${again ?? ''}`}
      written={{ name: form.name, definition: written.definition, listIds: written.listIds }}
      savedAt={form.draft?.savedAt ?? form.updatedAt}
      version={form.version}
      isDraft={form.draft !== null}
      newsletter={{ name: newsletter.name, colour: newsletter.colour, site: newsletter.site }}
      lists={lists.map(({ id: listId, name, reading }) => ({ id: listId, name, reading }))}
      known={known}
      senders={senders
        .filter((sender) => sender.state === 'confirmed')
        .map((sender) => ({ id: sender.id, name: `${sender.name} <${sender.address}>` }))}
      codes={formCodes(
        {
          publicId: form.publicId,
          definition: live,
          lists: lists
            .filter((list) => live.listChoice.includes(list.id))
            .map((list) => ({ id: list.id, name: list.publicName })),
        },
        ctx.config.linkOrigin,
      )}
      snippet={siteSnippet(ctx.config.linkOrigin)}
      zone={zone}
      back={`/desk/${slug}/forms`}
      keep={keepDraft.bind(null, slug, id)}
      publish={publish.bind(null, slug, id)}
      giveFile={giveFile.bind(null, slug)}
      addPicture={addPicture.bind(null, slug)}
      loadPage={showPage.bind(null, slug)}
      trial={{
        address: person.email,
        status: `/desk/${slug}/forms/${id}/try`,
        start: tryForm.bind(null, slug, id),
        end: endTry.bind(null, slug),
      }}
    >
      {form.archivedAt && (
        <Note tone="look" title="This form is put away">
          Pages that still carry it show nothing.
        </Note>
      )}
      <dl className="figures mt-4 grid grid-cols-2 divide-rule rounded-lg border bg-sheet sm:grid-cols-5 sm:divide-x">
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
      <p className="mt-1.5 text-small text-ink-2">The last 28 days. “Surely” is where the true rate lies in 19 of 20 cases.</p>

      <div className="mt-7 grid gap-x-7 md:grid-cols-2">
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
          columns={[{ title: 'Version' }, { title: 'Heading' }, { title: 'Published' }, { title: '' }]}
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
    </FormEditor>
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
