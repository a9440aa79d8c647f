'use client';

import { Fragment, type ReactNode } from 'react';
import type { ActionResult } from '@/core/faults';
import type { FormDefinition, Next } from '@/core/forms/definition';
import type { PartId } from '@/core/forms/parts';
import { isOver, PLACEMENTS, type Placement } from '@/core/forms/placement';
import { type FormClause, formSentences } from '@/core/forms/sentence';
import { FORM_WORDS, fill, wordsOf } from '@/core/forms/words';
import { counted } from '@/core/growth/figures';
import { pageWords } from '@/core/readers/page-words';
import { Button } from '../kit/button';
import { Amount, Choice, Tick, Words } from '../kit/controls';
import { Clause, Sentence } from '../kit/sentence';
import { FileField } from './file-field';
import type { Picking } from './picker';
import { AddPart, type Known, Questions } from './questions';

export type BuilderList = {
  id: string;
  name: string /** As readers know it. */;
  publicName: string;
  reading: number;
  doubleOptIn: boolean;
};
export type ClauseProps = {
  form: FormDefinition;
  set: (form: FormDefinition) => void;
  listIds: string[];
  setListIds: (ids: string[]) => void;
  lists: BuilderList[];
  known: Known[];
  senders: { id: string; name: string; from: string }[];
  newsletter: { name: string; site: string };
  pick: (part: PartId) => void;
  /** Goes to where the mails of a form are written. */
  toMails: () => void;
  giveFile: (data: FormData) => Promise<ActionResult<{ id: string; name: string }>>;
  /** Looks for an element on a page of the writer's. */
  look: (picking: Picking) => void;
};

const TITLES: Record<FormClause, string> = {
  place: 'Where it stands',
  moment: 'When it comes',
  pages: 'On which pages',
  whom: 'For whom',
  days: 'On which days',
  asks: 'What it asks',
  language: 'Its language',
  count: 'The number of readers',
  lists: 'The lists it gives',
  tags: 'The tags it gives',
  after: 'Once it is sent in',
  confirmation: 'The confirmation letter',
  confirmed: 'The page after confirming',
  gift: 'A gift',
  welcome: 'The welcome letter',
  told: 'Whether you are told',
};

/** The form told in sentences under its page; each underlined part opens its choice. */
export function FormClauses(props: ClauseProps) {
  const { form, lists, listIds, senders } = props;
  const sender = senders.find(({ id }) => id === form.next.confirmation.senderId) ?? senders[0];
  const facts = {
    lists: lists.filter((list) => listIds.includes(list.id)),
    sender: sender?.name ?? props.newsletter.name,
  };
  return (
    <div className="space-y-2 border-l-2 border-l-verdigris pl-4">
      {formSentences(form, facts).map((pieces, n) => (
        <Sentence key={n}>
          {pieces.map((piece, at) =>
            typeof piece === 'string' ? (
              <Fragment key={at}>{piece}</Fragment>
            ) : (
              <Clause key={piece.clause} words={piece.words} title={TITLES[piece.clause]}>
                {CHOICES[piece.clause](props)}
              </Clause>
            ),
          )}
        </Sentence>
      ))}
    </div>
  );
}

const MEANS: Record<Placement['kind'], string> = {
  panel: 'Stands where you put its line and fills what it stands in, or has a width of its own.',
  'one line': 'As flat as it goes, for the end of a page or a column.',
  ribbon: 'A band along an edge of the window; stays away once closed.',
  'corner card': 'A card in a corner, after a moment.',
  'pop-up': 'Over the page. Never for people who joined.',
  'after-post': 'Finds the end of the article by itself.',
};

const lines = (text: string) =>
  text
    .split('\n')
    .map((line) => line.trim())
    .filter(Boolean);
const placing =
  ({ form, set }: ClauseProps) =>
  (part: Partial<Placement>) =>
    set({ ...form, placement: { ...form.placement, ...part } });
const nexting =
  ({ form, set }: ClauseProps) =>
  (part: Partial<Next>) =>
    set({ ...form, next: { ...form.next, ...part } });

const CHOICES: Record<FormClause, (props: ClauseProps) => ReactNode> = {
  place: (props) => <PlaceChoice {...props} />,
  moment: (props) => <MomentChoice {...props} />,
  pages: (props) => {
    const { placement } = props.form;
    const change = placing(props);
    return (
      <>
        <Words
          long
          label="Only on these pages"
          value={placement.show.join('\n')}
          change={(text) => change({ show: lines(text) })}
          placeholder={'/letters/*'}
          hint="One path a line, * for anything. Empty is every page."
        />
        <Words
          long
          label="Not on these pages"
          value={placement.hide.join('\n')}
          change={(text) => change({ hide: lines(text) })}
          placeholder="/about"
        />
      </>
    );
  },
  whom: (props) => (
    <>
      <p className="text-small text-ink-2">It never comes to people who joined in the same browser.</p>
      <Amount
        label="Days before it comes again once closed"
        value={props.form.placement.againAfterDays}
        most={365}
        change={(againAfterDays) => placing(props)({ againAfterDays })}
        hint="0 for never again."
      />
    </>
  ),
  days: (props) => {
    const change = placing(props);
    return (
      <>
        <Words type="date" label="From the day" value={props.form.placement.from} change={(from) => change({ from })} />
        <Words type="date" label="To the day" value={props.form.placement.to} change={(to) => change({ to })} />
        <p className="text-small text-ink-2">Left empty there is no such end. The days are those of the visitor’s own clock.</p>
      </>
    );
  },
  asks: ({ form, set, known, lists, pick }) => (
    <>
      <Questions form={form} set={set} pick={pick} />
      <AddPart form={form} set={set} known={known} lists={lists} pick={pick} />
    </>
  ),
  language: ({ form, set, newsletter }) => (
    <Choice
      label="Language"
      value={form.language}
      change={(language) => set({ ...form, ...inLanguage(form, language, newsletter.name) })}
      choices={Object.keys(FORM_WORDS).map((tag) => ({
        value: tag,
        label: new Intl.DisplayNames([tag], { type: 'language' }).of(tag) ?? tag,
      }))}
      hint="What you wrote yourself stays as it is."
    />
  ),
  count: ({ form, set }) => (
    <Amount
      label="Shown from so many readers on"
      value={form.countFrom}
      most={1_000_000}
      change={(countFrom) => set({ ...form, countFrom })}
      hint="0 for never. Fewer than this are not shown."
    />
  ),
  lists: ({ lists, listIds, setListIds }) => (
    <fieldset className="space-y-2">
      <legend className="sr-only">Lists</legend>
      {lists.map((list) => (
        <Tick
          key={list.id}
          label={list.name}
          hint={`${counted(list.reading, 'reader', 'readers')}${list.doubleOptIn ? '' : ', asks for no confirmation'}`}
          on={listIds.includes(list.id)}
          change={(on) => setListIds(on ? [...listIds, list.id] : listIds.filter((id) => id !== list.id))}
        />
      ))}
    </fieldset>
  ),
  tags: (props) => (
    <Words
      label="Tags"
      value={props.form.next.tags.join(', ')}
      change={(text) =>
        nexting(props)({
          tags: text
            .split(',')
            .map((tag) => tag.trimStart().toLowerCase())
            .filter((tag, n, all) => tag !== '' || n === all.length - 1),
        })
      }
      hint="With commas between. Readers never see them."
    />
  ),
  after: (props) => (
    <>
      <Words long label="Thanks, in place" value={props.form.thanks} change={(thanks) => props.set({ ...props.form, thanks })} />
      <Words
        label="Or take them to another page"
        type="url"
        value={props.form.next.redirect}
        change={(redirect) => nexting(props)({ redirect })}
        placeholder="https://"
      />
    </>
  ),
  confirmation: (props) => (
    <>
      <SenderChoice {...props} />
      <Tick
        label="Remind them once"
        hint="After three days, if they have not confirmed. Nothing after that."
        on={props.form.next.reminder}
        change={(reminder) => nexting(props)({ reminder })}
      />
      <Button onClick={props.toMails}>Write its words</Button>
    </>
  ),
  confirmed: (props) => {
    const { confirmed } = props.form.next;
    const change = (part: Partial<Next['confirmed']>) => nexting(props)({ confirmed: { ...confirmed, ...part } });
    return (
      <>
        <Words
          label="Title"
          value={confirmed.title}
          placeholder={pageWords(props.form.language, '').onList}
          change={(title) => change({ title })}
        />
        <Words long label="Words" value={confirmed.words} change={(words) => change({ words })} />
        <Words
          label="Or take them to another page"
          type="url"
          value={confirmed.redirect}
          change={(redirect) => change({ redirect })}
          placeholder="https://"
        />
      </>
    );
  },
  gift: (props) => <GiftChoice {...props} />,
  welcome: (props) => {
    const { welcome } = props.form.next;
    return (
      <>
        <Tick
          label="Send a welcome letter"
          hint="At once after confirming, with the gift in it."
          on={welcome.on}
          change={(on) => nexting(props)({ welcome: { ...welcome, on } })}
        />
        {welcome.on && <Button onClick={props.toMails}>Write its words</Button>}
      </>
    );
  },
  told: (props) => (
    <Tick
      label="Tell the owners of each"
      hint="Whoever confirms by this form, one mail each. Without it the newsletter’s settings hold."
      on={props.form.next.tellOwners}
      change={(tellOwners) => nexting(props)({ tellOwners })}
    />
  ),
};

export function SenderChoice(props: ClauseProps) {
  const { confirmation } = props.form.next;
  return (
    <Choice
      label="It comes from"
      value={confirmation.senderId}
      change={(senderId) => nexting(props)({ confirmation: { ...confirmation, senderId } })}
      choices={[
        { value: '', label: 'the sender that new letters start with' },
        ...props.senders.map((sender) => ({ value: sender.id, label: sender.from })),
      ]}
    />
  );
}

function PlaceChoice(props: ClauseProps) {
  const { placement } = props.form;
  const change = placing(props);
  return (
    <>
      <Choice
        label="It stands as"
        value={placement.kind}
        change={(kind) => change({ kind })}
        choices={PLACEMENTS}
        hint={MEANS[placement.kind]}
      />
      {placement.kind === 'ribbon' && (
        <Choice
          label="Along"
          value={placement.ribbonAt}
          change={(ribbonAt) => change({ ribbonAt })}
          choices={[
            { value: 'top', label: 'the top' },
            { value: 'bottom', label: 'the bottom' },
          ]}
        />
      )}
      {placement.kind === 'corner card' && (
        <Choice
          label="In the corner where lines"
          value={placement.cornerAt}
          change={(cornerAt) => change({ cornerAt })}
          choices={[
            { value: 'end', label: 'end' },
            { value: 'start', label: 'begin' },
          ]}
        />
      )}
      {placement.kind === 'after-post' && (
        <>
          <Words
            label="What an article is"
            value={placement.after}
            change={(after) => change({ after })}
            hint="A CSS selector; article fits most sites. If none is found the form stands where its line stands."
          />
          <Button onClick={() => props.look({ title: 'Where does an article end?', take: (after) => change({ after }) })}>
            Show it on a page
          </Button>
        </>
      )}
      {!isOver(placement.kind) && placement.kind !== 'after-post' && (
        <Amount
          label="Width in pixels, 0 fills what it stands in"
          value={props.form.look.width}
          most={1200}
          change={(width) => props.set({ ...props.form, look: { ...props.form.look, width } })}
        />
      )}
    </>
  );
}

function MomentChoice(props: ClauseProps) {
  const { trigger } = props.form.placement;
  const change = (part: Partial<Placement['trigger']>) => placing(props)({ trigger: { ...trigger, ...part } });
  return (
    <>
      <div className="grid grid-cols-2 gap-2">
        <Amount label="After seconds" value={trigger.seconds} most={600} change={(seconds) => change({ seconds })} />
        <Amount label="After % scrolled" value={trigger.scroll} most={100} change={(scroll) => change({ scroll })} />
      </div>
      <p className="text-small text-ink-2">0 where it does not matter.</p>
      <Tick label="When the pointer leaves the page" on={trigger.leaving} change={(leaving) => change({ leaving })} />
      <Words
        label="When this is clicked"
        value={trigger.click}
        change={(click) => change({ click })}
        placeholder=".subscribe"
        hint="A CSS selector of any button or link. Also for people who closed it."
      />
      <Button onClick={() => props.look({ title: 'What brings it when clicked?', take: (click) => change({ click }) })}>
        Show it on a page
      </Button>
    </>
  );
}

function GiftChoice(props: ClauseProps) {
  const { gift } = props.form.next;
  const change = (part: Partial<Next['gift']>) => nexting(props)({ gift: { ...gift, ...part } });
  return (
    <>
      <Choice
        label="For whoever confirms"
        value={gift.kind}
        change={(kind) => change({ kind })}
        choices={[
          { value: 'none', label: 'none' },
          { value: 'link', label: 'an address' },
          { value: 'file', label: 'a file kept here' },
        ]}
      />
      {gift.kind !== 'none' && (
        <Words
          label="What it is called"
          value={gift.label}
          change={(label) => change({ label })}
          placeholder="Your map of the trench"
        />
      )}
      {gift.kind === 'link' && (
        <Words label="Where it is" type="url" value={gift.url} change={(url) => change({ url })} placeholder="https://" />
      )}
      {gift.kind === 'file' && (
        <FileField
          label="The file"
          hint={gift.fileId ? 'A file is kept. Choose another to replace it.' : 'Up to 20 MB. Links to it last 30 days.'}
          keep={props.giveFile}
          kept={(file) => {
            change({ fileId: file.id, label: gift.label || file.name });
            return `Kept: ${file.name}`;
          }}
        />
      )}
    </>
  );
}

/** Another language: texts that still are the starting ones of the old language become those of the new; what was written stays. */
function inLanguage(form: FormDefinition, language: string, name: string): Partial<FormDefinition> {
  const [old, next] = [wordsOf(form.language), wordsOf(language)];
  const swap = (text: string, from: string, to: string) => (text === fill(from, { name }) ? fill(to, { name }) : text);
  return {
    language,
    heading: swap(form.heading, old.heading, next.heading),
    words: swap(form.words, old.words, next.words),
    button: swap(form.button, old.button, next.button),
    thanks: swap(form.thanks, old.thanks, next.thanks),
    fields: form.fields.map((field) => ({
      ...field,
      label:
        field.key === 'email'
          ? swap(field.label, old.email, next.email)
          : field.key === 'first_name'
            ? swap(field.label, old.firstName, next.firstName)
            : field.label,
    })),
  };
}
