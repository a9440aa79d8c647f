import type { Metadata } from 'next';
import Link from 'next/link';
import type { ReactNode } from 'react';
import { counted, figure } from '@/core/growth/figures';
import { ROW_KINDS, type RowKind } from '@/core/importing/import';
import { kindWords, tellImport } from '@/core/importing/told';
import { readView, type View, writeView } from '@/core/readers/view';
import { fieldChoices } from '@/server/forms/fields';
import { listsOf } from '@/server/readers/readers';
import { type ImportPage, importPage } from '@/server/transfer/imports';
import { ActionButton, ActionForm, ChoiceField, TextField } from '@/ui/kit/action-form';
import { ButtonLink } from '@/ui/kit/button';
import { ActionDialog } from '@/ui/kit/dialog';
import { Note, Screen, Section, Sheet, Standfirst } from '@/ui/kit/page';
import { Refreshing } from '@/ui/kit/refreshing';
import { Table } from '@/ui/kit/table';
import { AgreementFields } from '@/ui/readers/bulk-bar';
import { ColumnPlan } from '@/ui/readers/column-plan';
import { deskOf, orNotFound } from '../../../../../../desk';
import { bring, drop, look, readOtherwise, stop, takeBack } from '../actions';

export const metadata: Metadata = { title: 'Bring readers' };

const ENCODING = { 'utf-8': 'UTF-8', 'utf-16le': 'UTF-16', 'utf-16be': 'UTF-16, big end first', 'windows-1252': 'Windows-1252' };
const DELIMITER: Record<string, string> = { ',': 'Commas', ';': 'Semicolons', '\t': 'Tabs', '|': 'Bars' };
type Props = { params: Promise<{ slug: string; id: string }>; searchParams: Promise<{ columns?: string }> };

export default async function Page({ params, searchParams }: Props) {
  const { slug, id } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const one = await orNotFound(importPage(ctx, newsletter, id));
  const again = (await searchParams).columns !== undefined && one.state === 'looked';
  const lists = await listsOf(ctx, newsletter);
  const list = lists.find((each) => each.id === one.plan?.listId)?.publicName ?? 'your list';
  const base = `/desk/${slug}/readers/import`;
  const here = `${base}/${id}`;
  const busy = ['looking', 'bringing', 'undoing'].includes(one.state);
  const as = { list, how: howOf(one) };
  const throwAway = (
    <ActionDialog
      opens="Throw it away"
      opensTone="quiet"
      title="Throw this file away?"
      words="Nothing of it was brought. The file itself is yours; only what was sent here goes."
      submit="Throw it away"
      action={drop.bind(null, slug, id)}
    />
  );
  return (
    <Screen margin={<Aside one={one} slug={slug} throwAway={throwAway} />}>
      {busy && <Refreshing seconds={1} />}
      <Standfirst
        title={one.name}
        trail={[
          { label: 'Readers', href: `/desk/${slug}/readers` },
          { label: 'Bring readers', href: base },
        ]}
      >
        {says(one, list, again)}
      </Standfirst>
      {(one.state === 'asking' || again) && (
        <Section title="What stands in it" aside={`${counted(one.columns.length, 'column', 'columns')}; nothing is brought yet`}>
          <ActionForm
            action={look.bind(null, slug, id)}
            submit="Look through all of it"
            className="mt-1"
            aside={
              again && (
                <Link className="link" href={here}>
                  Leave it as it is
                </Link>
              )
            }
          >
            <ColumnPlan columns={one.columns} fields={await fieldChoices(ctx, newsletter)} />
            {one.dialect.shape === 'table' && (
              <ChoiceField
                name="dates"
                label="How are days written in it?"
                defaultValue={one.plan?.dates ?? ''}
                choices={[
                  { value: '', label: one.dates === 'unclear' ? 'Say which' : 'As they show by themselves' },
                  { value: 'day first', label: 'The day first: 3/5/2024 is the third of May' },
                  { value: 'month first', label: 'The month first: 3/5/2024 is the fifth of March' },
                ]}
              />
            )}
            <div className="grid gap-4 sm:grid-cols-2">
              <ChoiceField
                name="listId"
                label="Onto which list?"
                defaultValue={one.plan?.listId}
                choices={lists.map((each) => ({ value: each.id, label: each.name }))}
              />
              <TextField
                name="tag"
                label="A tag for all of them"
                defaultValue={one.plan?.tag}
                hint="May be left empty."
                autoComplete="off"
              />
            </div>
          </ActionForm>
        </Section>
      )}
      {busy && (
        <Section
          title={one.state === 'looking' ? 'Looking through it' : one.state === 'bringing' ? 'Bringing them' : 'Taking it back'}
        >
          <progress
            className="my-3 block h-2 w-full accent-verdigris"
            value={one.state === 'undoing' ? undefined : one.progress}
            max={1}
            aria-label="How far it is"
          />
          <p className="mb-3 text-ink-2" role="status">
            {one.state === 'undoing'
              ? 'It goes on, whether you look or not.'
              : `${Math.floor(one.progress * 100)} %. It goes on, whether you look or not.`}
          </p>
          {one.state !== 'undoing' && (
            <ActionButton action={stop.bind(null, slug, id)} done="Stopped where it stood">
              Stop
            </ActionButton>
          )}
        </Section>
      )}
      {one.state === 'looked' && !again && one.found && (
        <>
          <Kinds title="What will become of them" counts={one.found.kinds} one={one} as={as} slug={slug} />
          {one.found.risk.reasons.length > 0 && (
            <Note
              tone={one.found.risk.verdict === 'refuse' ? 'mend' : 'look'}
              title={
                one.found.risk.verdict === 'refuse'
                  ? 'These look bought or scraped, and are not brought'
                  : 'Their mailboxes will ask whether they agreed'
              }
            >
              {one.found.risk.reasons.join(' ')}{' '}
              {one.found.risk.verdict === 'refuse'
                ? 'Letters to them would harm whatever you send to those who read you.'
                : 'So each of them is asked by a confirmation letter, and reads once they confirm.'}
            </Note>
          )}
          {one.found.risk.verdict !== 'refuse' &&
            (one.found.kinds.new ?? 0) +
              (one.found.kinds.joins ?? 0) +
              (one.found.kinds.waits ?? 0) +
              (one.found.kinds.known ?? 0) +
              (one.found.kinds.ends ?? 0) >
              0 && (
              <Section title="Where and when did they agree?" className="mt-6">
                <Sheet className="mt-3 max-w-xl">
                  <ActionForm
                    action={bring.bind(null, slug, id)}
                    submit="Bring them"
                    aside={
                      <Link className="link" href={`${here}?columns`}>
                        Change the columns
                      </Link>
                    }
                  >
                    <AgreementFields only={one.found.risk.verdict === 'ask' ? 'asked' : undefined} />
                  </ActionForm>
                </Sheet>
              </Section>
            )}
        </>
      )}
      {['done', 'stopped', 'failed', 'undone'].includes(one.state) && one.broughtAt && one.state !== 'undone' && (
        <>
          <Kinds title="What became of them" counts={one.result} one={one} as={as} slug={slug} />
          <div className="flex flex-wrap gap-2.5">
            <ButtonLink href={`/desk/${slug}/readers?${writeView(viewOf(id))}`}>See them among your readers</ButtonLink>
            {one.undo && (
              <ActionDialog
                opens="Take it back"
                title="Take this import back?"
                words="Whom it made goes as if they had never come, and whom it found stands as before. Whoever has done something since then, or to whom one of you has done something by hand, stays."
                submit="Take it back"
                done="It is being taken back"
                tone="harm"
                action={takeBack.bind(null, slug, id)}
              />
            )}
          </div>
        </>
      )}
    </Screen>
  );
}

const viewOf = (id: string): View => ({ ...readView({}), where: { kind: 'came by', what: 'import', is: id } });

/** How its people come, as far as that is settled. */
function howOf({ consent, found }: ImportPage): Parameters<typeof kindWords>[1]['how'] {
  if (consent) return consent.how;
  if (found?.risk.verdict === 'refuse') return 'refused';
  return found?.risk.verdict === 'ask' ? 'asked' : null;
}

function says(one: ImportPage, list: string, again: boolean): ReactNode {
  const as = { list, how: howOf(one) };
  switch (one.state) {
    case 'asking':
      return one.addresses.length > 0 ? (
        <>
          <b>{one.addresses.length} columns</b> hold addresses: say which of them is meant.
        </>
      ) : (
        <>Say what its columns are. What is not known is left out until you say otherwise.</>
      );
    case 'looking':
      return <>It is being looked through; nothing is brought yet.</>;
    case 'looked':
      return again ? (
        <>Say what its columns are, and it is looked through anew.</>
      ) : (
        tellImport(one.found?.kinds ?? {}, as, false)
      );
    case 'bringing':
      return <>They are being brought onto {list}.</>;
    case 'done':
      return tellImport(one.result, as, true);
    case 'stopped':
      return <>Stopped. {tellImport(one.result, as, true)}</>;
    case 'failed':
      return <>It could not go on: {one.cause}</>;
    case 'undoing':
      return <>It is being taken back.</>;
    case 'undone':
      return <>Taken back. Whoever has done something since, or to whom one of you has, stays.</>;
  }
}

/** Each kind of row with how many, what becomes of it, and some of them. */
function Kinds({
  title,
  counts,
  one,
  as,
  slug,
}: {
  title: string;
  counts: Partial<Record<RowKind, number>>;
  one: ImportPage;
  as: Parameters<typeof kindWords>[1];
  slug: string;
}) {
  const kinds = ROW_KINDS.filter((kind) => counts[kind]);
  return (
    <Section title={title}>
      <Table
        label={title}
        columns={[
          { title: 'Rows' },
          { title: 'How many', figure: true },
          { title: 'What becomes of them' },
          { title: 'Such as' },
        ]}
        rows={kinds.map((kind) => {
          const { title: name, words } = kindWords(kind, as);
          return {
            key: kind,
            cells: [
              <b key="name">{name}</b>,
              figure(counts[kind]!),
              <span key="words" className="text-ink-2">
                {words}{' '}
                {kind === 'bad' && (
                  <a className="link" href={`/desk/${slug}/readers/import/${one.id}/rejected`} download>
                    Get them with their reasons
                  </a>
                )}
              </span>,
              <ul key="such" className="space-y-0.5 text-[13px] text-ink-2">
                {(one.examples[kind] ?? []).map((example) => (
                  <li
                    key={example.row}
                    className={example.why ? undefined : 'max-w-60 truncate'}
                    title={example.address ?? undefined}
                  >
                    {example.why ? `Row ${figure(example.row)}: ${example.why}` : example.address}
                  </li>
                ))}
              </ul>,
            ],
          };
        })}
      />
    </Section>
  );
}

function Aside({ one, slug, throwAway }: { one: ImportPage; slug: string; throwAway: ReactNode }) {
  const open = one.state === 'asking' || one.state === 'looked';
  return (
    <>
      {one.dialect.shape === 'table' && (
        <Note tone="know" title="How it is read">
          {ENCODING[one.dialect.encoding]}, {(DELIMITER[one.dialect.delimiter] ?? `“${one.dialect.delimiter}”`).toLowerCase()}{' '}
          between the cells, {one.dialect.header ? 'names of columns in the first row' : 'no names of columns'}.{' '}
          {open && (
            <ActionDialog
              opens="Read it another way"
              opensTone="quiet"
              title="Read it another way"
              words="What was found out from its first rows may be wrong. What you said of the columns is asked anew."
              submit="Read it so"
              action={readOtherwise.bind(null, slug, one.id)}
            >
              <ChoiceField
                name="encoding"
                label="Encoding"
                defaultValue={one.dialect.encoding}
                choices={Object.entries(ENCODING).map(([value, label]) => ({ value, label }))}
              />
              <ChoiceField
                name="delimiter"
                label="Between the cells"
                defaultValue={one.dialect.delimiter === '\t' ? 'tab' : one.dialect.delimiter}
                choices={Object.entries(DELIMITER).map(([value, label]) => ({ value: value === '\t' ? 'tab' : value, label }))}
              />
              <ChoiceField
                name="header"
                label="The first row"
                defaultValue={one.dialect.header ? 'yes' : 'no'}
                choices={[
                  { value: 'yes', label: 'Names the columns' },
                  { value: 'no', label: 'Is a reader like the others' },
                ]}
              />
            </ActionDialog>
          )}
        </Note>
      )}
      {one.consent?.how === 'vouched' && (
        <Note tone="know" title="How they agreed">
          “{one.consent.said}” It stands in the record of each of them.
        </Note>
      )}
      {!one.broughtAt && one.state !== 'looking' && (
        <Note tone="know" title="Not for you after all?">
          {throwAway}
        </Note>
      )}
    </>
  );
}
