'use client';

import { Menu, MenuButton } from '@headlessui/react';
import { Plus } from 'lucide-react';
import { useRef, useState } from 'react';
import { toast } from 'sonner';
import type { ActionResult } from '@/core/faults';
import { counted, figure } from '@/core/growth/figures';
import {
  type Audience,
  isOnlyUnread,
  OMISSION_WORDS,
  OMISSIONS,
  type Omission,
  onlyUnread,
  type Part,
} from '@/core/sending/audience';
import { audienceWords, partWords } from '@/core/sending/tell-audience';
import { TextField } from '../kit/action-form';
import { Button } from '../kit/button';
import { Choice, Words } from '../kit/controls';
import { ActionDialog } from '../kit/dialog';
import { Offered } from '../kit/offered';
import { Note, Screen, Section, Standfirst } from '../kit/page';
import { Clause, Sentence } from '../kit/sentence';
import { Table } from '../kit/table';
import type { SentenceChoices } from '../readers/clause-settings';
import { ConditionSentence } from '../readers/condition-sentence';
import { useAsked } from './use-asked';

type Reach = { will: number; out: Record<Omission, number>; doubles: number; missing: string[] };
type Saved = { id: string; name: string; audience: Audience };
type People = Record<string, string>;

type Props = {
  title: string;
  base: string;
  /** Has it a time already? Then what is chosen here holds for it at once. */
  onRunway: boolean;
  audience: Audience;
  /** The letter that it is once more: then it is for nobody but those who did not open that one. */
  againOf: string | null;
  choices: SentenceChoices;
  people: People;
  saved: Saved[];
  last: { subject: string; audience: Audience } | null;
  keep: (audience: Audience) => Promise<ActionResult<unknown>>;
  find: (typed: string) => Promise<ActionResult<{ people: { id: string; address: string }[]; unknown: string[] }>>;
  save: (audience: Audience, data: FormData) => Promise<ActionResult<unknown>>;
  drop: (id: string) => Promise<ActionResult<unknown>>;
};

const same = (a: Audience, b: Audience) => JSON.stringify(a) === JSON.stringify(b);

/** Says whom a letter is for, in rows that one can read aloud, with who that is as one chooses. What is chosen is kept at once. */
export function Addresser(props: Props) {
  const { base, choices, saved, last } = props;
  const [audience, setAudience] = useState(props.audience);
  const [people, setPeople] = useState(props.people);
  const [kept, setKept] = useState<'kept' | 'keeping' | 'not kept'>('kept');
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  const reach = useAsked<{ soon: { will: number; exact: boolean } }>(`${base}/reach`, JSON.stringify({ audience, soon: true }));
  const whole = useAsked<Reach>(`${base}/reach`, JSON.stringify({ audience }), 900);
  const will =
    whole.answer && !whole.busy ? { will: whole.answer.will, exact: true } : reach.busy ? null : (reach.answer?.soon ?? null);
  const change = (next: Audience) => {
    setAudience(next);
    setKept('keeping');
    clearTimeout(timer.current);
    timer.current = setTimeout(async () => {
      const result = await props.keep(next).catch(() => null);
      setKept(result?.ok ? 'kept' : 'not kept');
      if (!result?.ok) toast.error(result?.error.sentence ?? 'This could not be kept. Look at your connection and choose again.');
    }, 300);
  };
  const { againOf } = props;
  const isFixed = (part: Part) => againOf !== null && isOnlyUnread({ to: [], without: [part] }, againOf);
  const put = (side: 'to' | 'without', n: number, part: Part | null) =>
    change({ ...audience, [side]: audience[side].flatMap((one, k) => (k === n ? (part ? [part] : []) : [one])) });
  const rows = (side: 'to' | 'without') => (
    <ul>
      {audience[side].map((part, n) => (
        // Rows have no names of their own, and are never put in another order.
        <li key={n} className="flex items-start justify-between gap-3 border-b border-rule-2 py-3">
          <Sentence className="min-w-0 flex-1">
            {n > 0 && 'and '}
            {isFixed(part) ? (
              partWords(part, choices.names, people)
            ) : (
              <PartRow
                part={part}
                choices={choices}
                people={people}
                change={(next) => put(side, n, next)}
                find={props.find}
                know={(more) => setPeople((old) => ({ ...old, ...more }))}
              />
            )}
          </Sentence>
          {(side === 'without' || audience.to.length > 1) && !isFixed(part) && (
            <button
              type="button"
              className="link mt-1 text-[13px]"
              onClick={() => put(side, n, null)}
              aria-label={`Take out ${partWords(part, choices.names, people)}`}
            >
              Take out
            </button>
          )}
        </li>
      ))}
    </ul>
  );
  const offered = [
    ...(last && !same(last.audience, audience) ? [{ id: 'last', name: 'As the last letter', audience: last.audience }] : []),
    ...saved,
  ];
  return (
    <Screen
      margin={
        <>
          <Section title="Who that is" aside="as of now">
            <p className="py-3 font-serif text-standfirst" aria-live="polite">
              {will === null ? (
                <span className="text-ink-2">Counting …</span>
              ) : (
                <>
                  <b className="figures">{will.exact ? figure(will.will) : `About ${figure(will.will)}`}</b>{' '}
                  {will.will === 1 ? 'person gets it' : 'people get it'}
                </>
              )}
            </p>
            {whole.fault && <Note tone="look" title={whole.fault} />}
            {whole.answer && (
              <Table
                label="Who is named and does not get it"
                columns={[{ title: 'Named, but left out' }, { title: 'People', figure: true }]}
                rows={OMISSIONS.map((one) => ({
                  key: one,
                  cells: [OMISSION_WORDS[one], figure(whole.answer!.out[one])],
                }))}
              />
            )}
            {whole.answer && whole.answer.doubles > 0 && (
              <p className="mt-2 text-small text-ink-2">
                {counted(whole.answer.doubles, 'time', 'times')} somebody is named again: everybody gets it once.
              </p>
            )}
            <p className="mt-2 text-small text-ink-2">Fixed when it starts: who joins until then gets it, who leaves does not.</p>
          </Section>
          <Section title="Kept audiences">
            {offered.length === 0 && (
              <p className="py-2.5 text-[13px] text-ink-2">None yet. Keep this one under a name to use it again.</p>
            )}
            <ul>
              {offered.map((one) => (
                <li key={one.id} className="border-b border-rule-2 py-2 text-[13px]">
                  <span className="flex items-baseline justify-between gap-3">
                    <b className="min-w-0 break-words">{one.name}</b>
                    <span className="flex shrink-0 gap-3">
                      <button
                        type="button"
                        className="link"
                        onClick={() => change(againOf ? onlyUnread(one.audience, againOf) : one.audience)}
                        aria-label={`Use ${one.name}`}
                      >
                        Use
                      </button>
                      {one.id !== 'last' && (
                        <button
                          type="button"
                          className="link"
                          aria-label={`Let go of ${one.name}`}
                          onClick={async () => {
                            const result = await props.drop(one.id);
                            if (!result.ok) toast.error(result.error.sentence);
                          }}
                        >
                          Let go
                        </button>
                      )}
                    </span>
                  </span>
                  <span className="text-ink-2">{audienceWords(one.audience, choices.names, people)}</span>
                </li>
              ))}
            </ul>
            <div className="mt-3">
              <ActionDialog
                opens="Keep this one …"
                title="Keep this audience"
                words="Under a name of yours. One of that name is written over."
                submit="Keep it"
                done="Kept"
                action={props.save.bind(null, audience)}
              >
                <TextField name="name" label="Name" autoComplete="off" maxLength={80} />
              </ActionDialog>
            </div>
          </Section>
        </>
      }
    >
      <Standfirst title={props.title} trail={[{ label: 'Letters', href: base.replace(/\/[^/]+$/, '') }]}>
        It goes to {audienceWords(audience, choices.names, people)}.
      </Standfirst>
      {whole.answer && whole.answer.missing.length > 0 && (
        <Note tone="mend" title="Something it names was deleted">
          A {whole.answer.missing.join(', a ')} is not there any more. Take that row out, or the letter is held.
        </Note>
      )}
      {props.onRunway && (
        <Note tone="look" title="It is on the runway">
          What you change here holds at once. Call it back first where it shall not leave meanwhile.
        </Note>
      )}
      <Section title="It goes to" aside={{ kept: 'Kept', keeping: 'Keeping …', 'not kept': 'Not kept' }[kept]}>
        {rows('to')}
        <AddRow
          words="Somebody else too"
          choices={choices}
          rows={audience.to}
          add={(part) => change({ ...audience, to: [...audience.to, part] })}
        />
      </Section>
      <Section title="But not to">
        {audience.without.length === 0 && <p className="py-3 text-ink-2">Nobody is taken out.</p>}
        {rows('without')}
        <AddRow
          words="Take somebody out"
          choices={choices}
          rows={audience.without}
          add={(part) => change({ ...audience, without: [...audience.without, part] })}
        />
      </Section>
    </Screen>
  );
}

function PartRow({
  part,
  choices,
  people,
  change,
  find,
  know,
}: {
  part: Part;
  choices: SentenceChoices;
  people: People;
  change: (part: Part) => void;
  find: Props['find'];
  know: (more: People) => void;
}) {
  const named = (all: { id: string; name: string }[]) => all.map(({ id, name }) => ({ value: id, label: name }));
  if (part.kind === 'those')
    return (
      <ConditionSentence
        of={[]}
        inSentence
        value={part.condition}
        change={(condition) => change({ kind: 'those', condition })}
        choices={choices}
      />
    );
  return (
    <Clause words={partWords(part, choices.names, people)} title="Whom this row is for">
      {part.kind === 'list' && (
        <Choice
          label="Everyone who reads"
          value={part.id}
          change={(id) => change({ kind: 'list', id })}
          choices={named(choices.lists)}
        />
      )}
      {part.kind === 'segment' && (
        <Choice
          label="The segment"
          value={part.id}
          change={(id) => change({ kind: 'segment', id })}
          choices={named(choices.segments)}
        />
      )}
      {part.kind === 'tag' && (
        <Choice label="Everyone tagged" value={part.tag} change={(tag) => change({ kind: 'tag', tag })} choices={choices.tags} />
      )}
      {part.kind === 'readers' && (
        <Picked ids={part.ids} people={people} change={(ids) => change({ kind: 'readers', ids })} find={find} know={know} />
      )}
    </Clause>
  );
}

/** People picked one by one, by their addresses. */
function Picked({
  ids,
  people,
  change,
  find,
  know,
}: {
  ids: string[];
  people: People;
  change: (ids: string[]) => void;
  find: Props['find'];
  know: (more: People) => void;
}) {
  const [typed, setTyped] = useState('');
  const [said, setSaid] = useState('');
  const add = async () => {
    const result = await find(typed).catch(() => null);
    if (!result?.ok) return setSaid(result?.error.sentence ?? 'The server cannot be reached just now.');
    const { people: found, unknown } = result.value;
    know(Object.fromEntries(found.map((one) => [one.id, one.address])));
    change([...new Set([...ids, ...found.map((one) => one.id)])].slice(0, 1_000));
    setTyped(unknown.join('\n'));
    setSaid(unknown.length ? `Nobody reads by ${counted(unknown.length, 'this address', 'these addresses')}.` : '');
  };
  return (
    <>
      <ul className="max-h-40 overflow-y-auto">
        {ids.map((id) => (
          <li key={id} className="flex items-baseline justify-between gap-3 py-1">
            <span className="min-w-0 break-all">{people[id] ?? 'Somebody who was erased'}</span>
            <button
              type="button"
              className="link text-[13px]"
              aria-label={`Take out ${people[id] ?? 'them'}`}
              onClick={() => change(ids.filter((one) => one !== id))}
            >
              Take out
            </button>
          </li>
        ))}
      </ul>
      <Words label="Addresses" hint="One to a line, or with commas between them." long value={typed} change={setTyped} />
      {said && (
        <p role="alert" className="text-[13px] text-stamp-ink">
          {said}
        </p>
      )}
      <Button onClick={() => void add()}>Add them</Button>
    </>
  );
}

function AddRow({
  words,
  choices,
  rows,
  add,
}: {
  words: string;
  choices: SentenceChoices;
  rows: Part[];
  add: (part: Part) => void;
}) {
  // The first that no row names yet.
  const free = <T,>(all: T[], isIn: (row: Part, one: T) => boolean) =>
    all.find((one) => !rows.some((row) => isIn(row, one))) ?? all[0];
  const list = free(choices.lists, (row, one) => row.kind === 'list' && row.id === one.id);
  const segment = free(choices.segments, (row, one) => row.kind === 'segment' && row.id === one.id);
  const tag = free(choices.tags, (row, one) => row.kind === 'tag' && row.tag === one);
  const parts: { label: string; part: Part }[] = [
    ...(list ? [{ label: 'A list', part: { kind: 'list', id: list.id } as const }] : []),
    ...(segment ? [{ label: 'A segment', part: { kind: 'segment', id: segment.id } as const }] : []),
    ...(tag ? [{ label: 'A tag', part: { kind: 'tag', tag } as const }] : []),
    { label: 'People by their address', part: { kind: 'readers', ids: [] } },
    { label: 'People who …', part: { kind: 'those', condition: { kind: 'all', of: [{ kind: 'read within', days: 90 }] } } },
  ];
  return (
    <Menu as="div" className="relative mt-3">
      <MenuButton className="inline-flex items-center gap-2 rounded-md border bg-sheet px-3 py-1.5 text-[13.5px] font-semibold hover:border-ink-3">
        <Plus size={14} aria-hidden /> {words}
      </MenuButton>
      <Offered parts={parts} add={add} />
    </Menu>
  );
}
