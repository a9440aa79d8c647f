import type { Metadata } from 'next';
import type { ReactNode } from 'react';
import type { Answer } from '@/core/forms/fields';
import { counted, figure } from '@/core/growth/figures';
import { fullTime, longDay, spokenTime } from '@/core/growth/times';
import { DEGREES, degreeOf } from '@/core/readers/warmth';
import { listsOf, type ReaderProfile, readerProfile } from '@/server/readers/readers';
import { ActionButton, ActionForm, ChoiceField, LongField, TextField } from '@/ui/kit/action-form';
import { ActionDialog } from '@/ui/kit/dialog';
import { Note, Screen, Section, Standfirst } from '@/ui/kit/page';
import { AgreementFields } from '@/ui/readers/bulk-bar';
import { StateChip } from '@/ui/readers/state-chip';
import { deskOf, orNotFound } from '../../../../../desk';
import { askAgain, doTo, eraseOne, keepReader } from '../actions';

export const metadata: Metadata = { title: 'Reader' };

const WAYS = { search: 'Search', social: 'Social', mail: 'Mail', link: 'A link', campaign: 'Campaign', direct: 'Direct' };
const WITH: Record<string, string> = {
  panel: 'a panel',
  'one line': 'one line',
  ribbon: 'a ribbon',
  'corner card': 'a corner card',
  'pop-up': 'a pop-up',
  'after-post': 'the end of a post',
};
const WHY = {
  'hard bounce': 'A letter came back: this mailbox does not exist. Should it exist again, they can sign up themselves.',
  complaint: 'They reported a letter as unwanted. They come back only by signing up themselves.',
  erased: 'They were erased. They come back only by signing up themselves.',
  'by hand': 'Somebody of this newsletter suppressed it. Nothing goes there until it is allowed again.',
  left: 'A file that was brought says that they left. They come back only by themselves.',
};

export default async function Page({ params }: { params: Promise<{ slug: string; id: string }> }) {
  const { slug, id } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const reader = await orNotFound(readerProfile(ctx, newsletter, id));
  const lists = await listsOf(ctx, newsletter);
  const now = ctx.clock.now();
  const zone = newsletter.time_zone;
  const { way } = reader;
  const given = (entries: [string, string | null | undefined][]) =>
    entries.filter((entry): entry is [string, string] => Boolean(entry[1]));
  const from = given([
    [
      'Way',
      way.kind === 'direct' && way.name === 'direct'
        ? 'Direct'
        : way.kind === 'direct'
          ? way.name
          : `${WAYS[way.kind]}: ${way.name}`,
    ],
    ['Campaign', way.last?.campaign],
    [
      'Form',
      reader.source &&
        `${reader.source}${way.placement ? `, as ${WITH[way.placement] ?? way.placement}` : ''}${way.version ? `, version ${way.version.toUpperCase()}` : ''}`,
    ],
    ['File', reader.file],
    ['Page', reader.page],
    ['Came to it from', reader.referrer],
    ['First seen on', way.first?.landing === reader.page ? null : way.first?.landing],
    ['First came from', way.first?.referrer === reader.referrer ? null : way.first?.referrer],
  ]);
  const on = reader.lists.filter((list) => list.state !== 'left');
  const off = lists.filter((list) => !on.some((one) => one.id === list.id));
  const act = (kind: string) => doTo.bind(null, slug, id, kind);
  return (
    <Screen
      margin={
        <>
          <Section title="Lists">
            {reader.lists.map((list) => (
              <div key={list.id} className="border-b border-rule-2 py-2">
                <p className="flex items-baseline justify-between gap-3">
                  <span>{list.name}</span>
                  <span className="text-right text-small text-ink-2">
                    {list.state}, since {spokenTime(list.since, now, zone)}
                  </span>
                </p>
                {list.state !== 'left' && (
                  <ActionDialog
                    opens="Take off"
                    label={`Take off ${list.name}`}
                    opensTone="quiet"
                    title={`Take ${reader.address} off ${list.name}?`}
                    words="What waits for them by that list is not sent. They can sign up again themselves."
                    submit="Take off"
                    done="Taken off"
                    action={act('take off')}
                  >
                    <input type="hidden" name="listId" value={list.id} />
                  </ActionDialog>
                )}
              </div>
            ))}
            <p className="flex flex-wrap gap-x-4 gap-y-1 py-2.5">
              {off.length > 0 && (
                <ActionDialog
                  opens="Put on a list"
                  opensTone="quiet"
                  title={`Put ${reader.address} on a list`}
                  submit="Put on it"
                  done="Done"
                  action={act('add')}
                >
                  <ChoiceField name="listId" label="List" choices={off.map((list) => ({ value: list.id, label: list.name }))} />
                  <AgreementFields />
                </ActionDialog>
              )}
              {reader.lists.some((list) => list.state === 'waiting') && (
                <ActionButton action={askAgain.bind(null, slug, id)} done="The confirmation letter is on its way again">
                  Send the confirmation again
                </ActionButton>
              )}
            </p>
          </Section>
          <Section title="Tags">
            {reader.tags.map((tag) => (
              <p key={tag} className="flex items-baseline justify-between gap-3 border-b border-rule-2 py-2">
                <span className="min-w-0 break-words">{tag}</span>
                <ActionDialog
                  opens="Take off"
                  label={`Take off the tag ${tag}`}
                  opensTone="quiet"
                  title={`Take off the tag “${tag}”?`}
                  submit="Take off"
                  action={act('untag')}
                >
                  <input type="hidden" name="tag" value={tag} />
                </ActionDialog>
              </p>
            ))}
            <p className="py-2.5">
              <ActionDialog opens="Add a tag" opensTone="quiet" title="Add a tag" submit="Add it" action={act('tag')}>
                <TextField name="tag" label="Tag" autoComplete="off" />
              </ActionDialog>
            </p>
          </Section>
          <Section title="Where they came from">
            <Entries of={from} />
          </Section>
          <Section title="Their data">
            <p className="py-2 text-[13px] text-ink-2">
              Whoever asks what is kept of them can have it all:{' '}
              <a className="link" href={`/desk/${slug}/readers/${id}/data`} download>
                as a file
              </a>
              . The latest of it stands on this page.
            </p>
            <p className="flex flex-wrap gap-x-4 gap-y-1">
              {reader.addressState === 'suppressed' ? (
                reader.suppressedBy === 'by hand' && (
                  <ActionButton action={act('allow')} done="Letters go there again">
                    Allow again
                  </ActionButton>
                )
              ) : (
                <ActionDialog
                  opens="Suppress"
                  opensTone="quiet"
                  title={`Suppress ${reader.address}?`}
                  words="Nothing goes to this address any more, whatever list they are on. You can allow it again."
                  submit="Suppress"
                  tone="harm"
                  done="Suppressed"
                  action={act('suppress')}
                />
              )}
              <ActionDialog
                opens="Erase"
                opensTone="quiet"
                title={`Erase ${reader.address}?`}
                words="Their address, name, answers, tags, note and how they came are gone for good. What stays leads to nobody: letters’ figures, the acts of consent without place and browser, and a sealed mark by which nobody but they themselves can bring them back."
                submit="Erase"
                tone="harm"
                action={eraseOne.bind(null, slug, id, reader.address)}
              >
                <TextField name="typed" label="Type their address to erase them" autoComplete="off" />
              </ActionDialog>
            </p>
          </Section>
        </>
      }
    >
      <Standfirst title={reader.address} trail={[{ label: 'Readers', href: `/desk/${slug}/readers` }]}>
        First came {spokenTime(reader.joinedAt, now, zone)}. {lettersWords(reader)}{' '}
        <StateChip standing={reader.standing} address={reader.addressState} />
      </Standfirst>
      {reader.suppressedBy && (
        <Note tone="mend" title="This address is suppressed">
          {WHY[reader.suppressedBy]}
        </Note>
      )}
      {reader.pausedUntil && (
        <Note tone="know" title={`They asked for a pause until ${longDay(reader.pausedUntil, zone)}`}>
          Letters that begin before then do not go to them. They can end it themselves.
        </Note>
      )}
      {reader.textAlone && <Note tone="know" title="They get letters as text alone, as they chose" />}
      <div className="mb-8 grid gap-x-8 gap-y-6 md:grid-cols-2">
        <ActionForm action={keepReader.bind(null, slug, id)} submit="Save" done="Saved" tone="plain">
          <TextField name="firstName" label="First name" defaultValue={reader.firstName ?? ''} />
          {reader.answers.map((answer) => (
            <AnswerField key={answer.id} answer={answer} />
          ))}
          <LongField name="note" label="Your note" rows={3} defaultValue={reader.note} hint="Only you and your people see it." />
        </ActionForm>
        <Section title="Warmth" className="md:mt-[-2px]">
          <Warmth reader={reader} />
        </Section>
      </div>
      <Section title="What happened" aside="newest first">
        <ol>
          {reader.history.map((entry, n) => (
            <li
              // Two of one moment are told in their order.
              key={n}
              className="grid grid-cols-[7.5rem_1fr] gap-x-4 border-b border-rule-2 py-2.5"
            >
              <time dateTime={entry.at.toISOString()} title={fullTime(entry.at, zone)} className="text-ink-2">
                {spokenTime(entry.at, now, zone)}
              </time>
              <div className="min-w-0">
                {entry.text}
                {entry.detail && <p className="text-small break-words text-ink-2">{entry.detail}</p>}
              </div>
            </li>
          ))}
        </ol>
      </Section>
    </Screen>
  );
}

const lettersWords = ({ letters: { got, last, read } }: ReaderProfile): string =>
  got === 0
    ? 'No letter has gone to them yet.'
    : `They got ${counted(got, 'letter', 'letters')} and read ${figure(read)} of the last ${figure(last)}.`;

/** How warm somebody is, and why. */
function Warmth({ reader: { warmth, letters } }: { reader: ReaderProfile }): ReactNode {
  const degree = warmth === null ? null : degreeOf(warmth);
  return (
    <div className="py-2.5 text-[13.5px]">
      {degree ? (
        <p>
          <b className="text-[18px]">{warmth}</b> of 100: <b>{degree.word}</b>, {degree.means}.
        </p>
      ) : (
        <p>Too little is known to say. It takes three letters of which one can tell whether they were read.</p>
      )}
      {letters.last > 0 && (
        <p className="mt-1.5 text-small text-ink-2">
          Of the last {counted(letters.last, 'letter', 'letters')} they read {figure(letters.read)} and followed links in{' '}
          {figure(letters.clicked)}.
          {letters.hidden > 0 &&
            ` ${counted(letters.hidden, 'was', 'were')} opened by a machine alone, which may hide a reader; those are passed over.`}{' '}
          The newer a letter, the more it counts: six letters back, half.
        </p>
      )}
      <p className="mt-1.5 text-small text-ink-2">
        {DEGREES.map(({ from, word }, n) => `${n === 0 ? word[0]!.toUpperCase() + word.slice(1) : word} from ${from}`).join(', ')}
        .
      </p>
    </div>
  );
}

function AnswerField({ answer: { id, label, kind, options, value } }: { answer: ReaderProfile['answers'][number] }) {
  const name = `field ${id}`;
  const said = text(value);
  switch (kind) {
    case 'choice':
      return (
        <ChoiceField
          name={name}
          label={label}
          defaultValue={said}
          choices={[{ value: '', label: 'Not said' }, ...options.map((option) => ({ value: option, label: option }))]}
        />
      );
    case 'yes/no':
      return (
        <ChoiceField
          name={name}
          label={label}
          defaultValue={value === null ? '' : value === true ? 'yes' : 'no'}
          choices={[
            { value: '', label: 'Not said' },
            { value: 'yes', label: 'Yes' },
            { value: 'no', label: 'No' },
          ]}
        />
      );
    case 'long text':
      return <LongField name={name} label={label} defaultValue={said} />;
    case 'several choices':
      return <LongField name={name} label={label} rows={2} defaultValue={said} hint={`One a line, of: ${options.join(', ')}.`} />;
    default:
      return (
        <TextField
          name={name}
          label={label}
          defaultValue={said}
          type={kind === 'date' ? 'date' : kind === 'date and time' ? 'datetime-local' : 'text'}
        />
      );
  }
}

const text = (value: Answer): string => (value === null ? '' : Array.isArray(value) ? value.join('\n') : String(value));

function Entries({ of }: { of: [string, string][] }) {
  return (
    <dl>
      {of.map(([label, value]) => (
        <div key={label} className="border-b border-rule-2 py-2 text-[13px]">
          <dt className="text-small text-ink-2">{label}</dt>
          <dd className="break-words">{value}</dd>
        </div>
      ))}
    </dl>
  );
}
