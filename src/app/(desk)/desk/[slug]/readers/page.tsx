import type { Metadata } from 'next';
import { cookies } from 'next/headers';
import Link from 'next/link';
import type { ReactNode } from 'react';
import { counted, figure } from '@/core/growth/figures';
import type { Standing } from '@/core/readers/condition';
import { tell } from '@/core/readers/tell';
import { COLUMNS, conditionOf, FIRST_COLUMNS, readView, type View, writeView } from '@/core/readers/view';
import { bulksOf } from '@/server/keeping/bulk';
import { choicesOf } from '@/server/readers/choices';
import { totalsOf } from '@/server/readers/readers';
import { segmentsOf } from '@/server/readers/segments';
import { facetsOf, tablePage } from '@/server/readers/table';
import { ChoiceField, TextField } from '@/ui/kit/action-form';
import { ButtonLink } from '@/ui/kit/button';
import { ActionDialog } from '@/ui/kit/dialog';
import { Empty, Note, Screen, Section, Standfirst } from '@/ui/kit/page';
import { Refreshing } from '@/ui/kit/refreshing';
import { AgreementFields } from '@/ui/readers/bulk-bar';
import { Looking } from '@/ui/readers/looking';
import { UnderWay } from '@/ui/readers/under-way';
import { deskOf } from '../../../../desk';
import { addOne, beginAct, chooseColumns, dropSegment, saveSegment, stopAct, undoAct } from './actions';
import { takeOut } from './export/actions';

export const metadata: Metadata = { title: 'Readers' };

const STATES: { state: Standing; label: string; of: 'reading' | 'waiting' | 'left' | 'unreachable' }[] = [
  { state: 'reading', label: 'Reading', of: 'reading' },
  { state: 'waiting', label: 'Waiting', of: 'waiting' },
  { state: 'left', label: 'Unsubscribed', of: 'left' },
  { state: 'unreachable', label: 'Cannot be reached', of: 'unreachable' },
];

type Query = Record<string, string | string[] | undefined>;

export default async function Page({
  params,
  searchParams,
}: {
  params: Promise<{ slug: string }>;
  searchParams: Promise<Query>;
}) {
  const { slug } = await params;
  const view = readView(await searchParams);
  const { ctx, newsletter } = await deskOf(slug);
  const kept = ((await cookies()).get('columns')?.value ?? '').split(',');
  const columns = COLUMNS.filter((column) => (kept[0] ? kept : FIRST_COLUMNS).includes(column));
  const [page, totals, facets, segments, acts] = await Promise.all([
    tablePage(ctx, newsletter, { find: view.find, condition: conditionOf(view) }, view.order),
    totalsOf(ctx, newsletter),
    facetsOf(ctx, newsletter),
    segmentsOf(ctx, newsletter),
    bulksOf(ctx, newsletter),
  ]);
  const choices = await choicesOf(ctx, newsletter, facets);
  const base = `/desk/${slug}/readers`;
  const everyone = totals.reading + totals.waiting + totals.left + totals.unreachable;
  const lists = facets.lists.filter((list) => !list.archived);
  const segment = segments.find((one) => one.id === view.segment);
  const open = acts.some((act) => ['waiting', 'working', 'undoing'].includes(act.state));
  const adding = (
    <ActionDialog opens="Add one" title="Add one person" submit="Add them" done="Added" action={addOne.bind(null, slug)}>
      <TextField name="address" type="email" label="Address" autoComplete="off" />
      <TextField name="firstName" label="First name" autoComplete="off" hint="May be left empty." />
      <ChoiceField name="listId" label="List" choices={lists.map(({ id, name }) => ({ value: id, label: name }))} />
      <AgreementFields />
    </ActionDialog>
  );
  return (
    <Screen
      margin={
        everyone > 0 && (
          <>
            {acts.length > 0 && (
              <Section title="Under way">
                {open && <Refreshing seconds={2} />}
                <UnderWay acts={acts.slice(0, 4)} stop={stopAct.bind(null, slug)} undo={undoAct.bind(null, slug)} />
              </Section>
            )}
            <Section title="Narrow to">
              <Facets
                view={view}
                base={base}
                rows={STATES.map(({ state, label, of }) => ({ name: 'state', value: state, label, people: totals[of] }))}
              />
              <Facets
                title="Lists"
                view={view}
                base={base}
                rows={lists.map((list) => ({ name: 'list', value: list.id, label: list.name, people: list.people }))}
              />
              <Facets
                title="Segments"
                view={view}
                base={base}
                rows={segments.map((one) => ({
                  name: 'segment',
                  value: one.id,
                  label: one.name,
                  people: one.missing.length ? 0 : one.people,
                }))}
              />
              <Facets
                title="Warmth"
                more={{ label: 'Who has been cold for long', href: `${base}/cold` }}
                view={view}
                base={base}
                rows={Object.entries(DEGREE_LABELS).map(([value, label]) => ({
                  name: 'warmth',
                  value,
                  label,
                  people: facets.warmth[value as keyof typeof facets.warmth],
                }))}
              />
              <Facets
                title="Tags"
                view={view}
                base={base}
                rows={facets.tags.map((tag) => ({ name: 'tag', value: tag.name, label: tag.name, people: tag.people }))}
              />
              <Facets
                title="Came by"
                view={view}
                base={base}
                rows={facets.sources.map((source) => ({
                  name: 'source',
                  value: source.name,
                  label: source.name,
                  people: source.people,
                }))}
              />
              <Facets
                title="Forms"
                view={view}
                base={base}
                rows={facets.forms.map((form) => ({ name: 'form', value: form.id, label: form.name, people: form.people }))}
              />
            </Section>
          </>
        )
      }
    >
      <Standfirst
        title="Readers"
        actions={
          everyone > 0 && (
            <>
              <ButtonLink href={`${base}/import`}>Bring from a file</ButtonLink>
              <ButtonLink href={`${base}/export`}>Exports</ButtonLink>
            </>
          )
        }
      >
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
            <span className="flex justify-center gap-2.5">
              <ButtonLink tone="main" href={`/desk/${slug}/forms`}>
                Put a form on your site
              </ButtonLink>
              <ButtonLink href={`/desk/${slug}/readers/import`}>Bring them from a file</ButtonLink>
              {adding}
            </span>
          }
        >
          Readers come through a sign-up form and confirm by email, out of a file that you bring, or you add them by hand.
        </Empty>
      ) : (
        <>
          {segment && (
            <Note tone={segment.missing.length ? 'mend' : 'know'} title={segment.name}>
              {segment.missing.length > 0
                ? segment.missing[0] === 'circle'
                  ? 'It leads back to itself, so it holds nobody.'
                  : `It names a ${segment.missing[0]} that was deleted, so it holds nobody. `
                : tell(segment.condition, choices.names)}{' '}
              {segment.usedBy.length > 0 && `Needed by ${segment.usedBy.join(', ')}. `}
              {segment.sizes.length > 1 &&
                `${figure(segment.sizes[0]!.people)} on the first day it was counted, ${figure(segment.people ?? 0)} on the last. `}
              <ActionDialog
                opens="Let go of it"
                opensTone="quiet"
                title={`Let go of “${segment.name}”?`}
                words="The people in it are not touched."
                submit="Let go"
                done="Gone"
                action={dropSegment.bind(null, slug, segment.id)}
              />
            </Note>
          )}
          <Looking
            key={view.segment ?? ''}
            base={base}
            view={view}
            everyone={everyone}
            choices={choices}
            rows={JSON.parse(JSON.stringify(page.rows))}
            next={page.next}
            columns={columns}
            zone={newsletter.time_zone}
            now={ctx.clock.now().toISOString()}
            version={acts.map((act) => `${act.id}${act.state}`).join()}
            stamp={Object.values(totals).join()}
            act={beginAct.bind(null, slug)}
            take={takeOut.bind(null, slug)}
            choose={chooseColumns}
            keep={saveSegment.bind(null, slug, null)}
            adding={adding}
            empty={
              <Empty title="Nobody fits">
                {page.missing.length
                  ? 'What is asked for names something that was deleted.'
                  : 'Change the words or the sentence above.'}
              </Empty>
            }
          />
        </>
      )}
    </Screen>
  );
}

const DEGREE_LABELS = { warm: 'Warm', mild: 'Mild', cool: 'Cool', cold: 'Cold', unknown: 'Not known yet' } as const;

type Facet = {
  name: 'state' | 'list' | 'segment' | 'tag' | 'source' | 'form' | 'warmth';
  value: string;
  label: string;
  people: number | null;
};

/** What the readers can be narrowed to, each with how many read there; the one that is chosen lets go of it again. */
type FacetsProps = { title?: string; rows: Facet[]; view: View; base: string; more?: { label: string; href: string } };
function Facets({ title, rows, view, base, more }: FacetsProps): ReactNode {
  if (rows.length === 0) return null;
  return (
    <nav aria-label={title ?? 'State'} className="mb-3">
      {title && <p className="pt-2 text-small text-ink-2">{title}</p>}
      {rows.map(({ name, value, label, people }) => {
        const on = view[name] === value;
        const query = writeView({ ...view, [name]: on ? null : value });
        return (
          <Link
            key={value}
            href={`${base}${query.size ? `?${query}` : ''}`}
            scroll={false}
            aria-current={on ? 'true' : undefined}
            className="flex items-baseline justify-between gap-3 border-b border-rule-2 px-2 py-1.5 text-[13.5px] hover:bg-verdigris-tint aria-[current]:bg-verdigris-tint"
          >
            <span className="min-w-0 truncate" title={label}>
              {label}
            </span>
            <b className="figures">{people === null ? '' : figure(people)}</b>
          </Link>
        );
      })}
      {more && (
        <Link href={more.href} className="link block px-2 pt-1.5 text-[13px]">
          {more.label}
        </Link>
      )}
    </nav>
  );
}
