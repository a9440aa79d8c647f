'use client';

import { Menu, MenuButton } from '@headlessui/react';
import { Plus } from 'lucide-react';
import type { Condition, Leaf } from '@/core/readers/condition';
import { FIRST_NAME } from '@/core/readers/condition';
import { leafWords, plainLeaf } from '@/core/readers/tell';
import { Choice } from '../kit/controls';
import { Offered } from '../kit/offered';
import { Clause } from '../kit/sentence';
import { ClauseSettings, type SentenceChoices } from './clause-settings';

type Group = Extract<Condition, { of: Condition[] }>;
const isGroup = (condition: Condition): condition is Group => 'of' in condition && plainLeaf(condition) === null;

/** A condition as a sentence whose parts open their settings in place; a plus adds a part, and groups stand indented. */
export function ConditionSentence({
  value,
  change,
  choices,
  of,
  inSentence = false,
}: {
  value: Condition;
  /** What they are narrowed to already, which is told and not changed here. */
  of: Leaf[];
  /** It goes on from other words. */
  inSentence?: boolean;
  change: (value: Condition) => void;
  choices: SentenceChoices;
}) {
  // What stands at the top is always a group, so that there is a place to add to.
  const top: Group = isGroup(value) ? value : { kind: 'all', of: [value] };
  return (
    <>
      {of.length > 0 && `Of those who ${of.map((leaf) => leafWords(leaf, false, choices.names)).join(', and who ')}: `}
      <GroupWords group={top} change={change} choices={choices} depth={0} inside={inSentence || of.length > 0} />
    </>
  );
}

const JOINS = { all: ', and who ', any: ', or who ', none: ', or who ' } as const;
const OPENINGS = [
  { value: 'all', label: 'All of this is so' },
  { value: 'any', label: 'Any of this is so' },
  { value: 'none', label: 'None of this is so' },
] as const;

function GroupWords({
  group,
  change,
  choices,
  depth,
  inside = false,
}: {
  group: Group;
  inside?: boolean;
  change: (value: Condition) => void;
  choices: SentenceChoices;
  depth: number;
}) {
  const put = (n: number, part: Condition | null) =>
    change({ ...group, of: group.of.flatMap((one, k) => (k === n ? (part === null ? [] : [part]) : [one])) });
  const add = (part: Condition) => change({ ...group, of: [...group.of, part] });
  const settle = (
    <Clause
      words={
        group.kind === 'none'
          ? 'are none of those who'
          : group.of.length > 1
            ? group.kind === 'all'
              ? 'who'
              : 'who, in any of these ways,'
            : 'who'
      }
      title="How these belong together"
    >
      <Choice label="It holds when" value={group.kind} change={(kind) => change({ ...group, kind })} choices={OPENINGS} />
    </Clause>
  );
  return (
    <span className={depth ? 'my-1 block border-l-2 border-l-rule pl-3' : undefined}>
      {depth === 0 && (group.of.length ? (inside ? 'those ' : 'People ') : inside ? 'everyone ' : 'Everyone ')}
      {group.of.length > 0 && settle}{' '}
      {group.of.map((part, n) => {
        const plain = plainLeaf(part);
        return (
          // Parts have no names of their own, and are never put in another order.
          <span key={n}>
            {n > 0 && JOINS[group.kind]}
            {plain ? (
              <LeafClause
                leaf={plain.leaf}
                not={plain.not}
                choices={choices}
                change={(leaf, not) => put(n, not ? { kind: 'none', of: [leaf] } : leaf)}
                remove={() => put(n, null)}
              />
            ) : (
              <GroupWords
                group={part as Group}
                choices={choices}
                depth={depth + 1}
                change={(next) => put(n, isGroup(next) && next.of.length === 0 ? null : next)}
              />
            )}
          </span>
        );
      })}
      <AddPart add={add} choices={choices} group={depth < 3} first={group.of.length === 0} />
    </span>
  );
}

function LeafClause({
  leaf,
  not,
  change,
  remove,
  choices,
}: {
  leaf: Leaf;
  not: boolean;
  change: (leaf: Leaf, not: boolean) => void;
  remove: () => void;
  choices: SentenceChoices;
}) {
  return (
    <Clause words={leafWords(leaf, not, choices.names)} title="People who …">
      <Choice
        label="Those"
        value={not ? 'not' : 'so'}
        change={(which) => change(leaf, which === 'not')}
        choices={[
          { value: 'so', label: `who ${leafWords(leaf, false, choices.names)}` },
          { value: 'not', label: `who ${leafWords(leaf, true, choices.names)}` },
        ]}
      />
      <ClauseSettings leaf={leaf} change={(next) => change(next, not)} choices={choices} />
      <button type="button" className="link text-[13px]" onClick={remove}>
        Take this part out
      </button>
    </Clause>
  );
}

/** What can be added, each with what it is at first; what there is nothing of is not offered. */
function partsOf(choices: SentenceChoices): { label: string; part: Condition }[] {
  const { lists, tags, sources, letters, segments } = choices;
  return [
    ...(lists[0] ? [{ label: 'A list they read', part: { kind: 'list', id: lists[0].id, state: 'reading' } as const }] : []),
    { label: 'Where they stand', part: { kind: 'standing', is: ['reading'] } },
    ...(tags[0] ? [{ label: 'A tag', part: { kind: 'tag', tag: tags[0] } as const }] : []),
    { label: 'What they read lately', part: { kind: 'of the last', last: 8, what: 'read', most: 0 } },
    { label: 'When they last read', part: { kind: 'read within', days: 90 } },
    { label: 'When they last followed a link', part: { kind: 'clicked within', days: 90 } },
    { label: 'When they were last sent something', part: { kind: 'sent within', days: 30 } },
    ...(letters[0] ? [{ label: 'One letter', part: { kind: 'letter', id: letters[0].id, what: 'read' } as const }] : []),
    { label: 'How many letters they got', part: { kind: 'got', least: 1 } },
    { label: 'How warm they are', part: { kind: 'warmth', from: 60, until: 100 } },
    { label: 'Too new to say how warm', part: { kind: 'warmth unknown' } },
    { label: 'How they came', part: { kind: 'came by', what: 'source', is: sources[0] ?? 'direct' } },
    { label: 'When they came', part: { kind: 'came within', days: 30 } },
    { label: 'A date on which they came', part: { kind: 'came', from: '2026-01-01T00:00:00Z' } },
    { label: 'What they answered', part: { kind: 'field', id: FIRST_NAME, test: { is: 'answered' } } },
    { label: 'Where their mailbox is', part: { kind: 'domain', is: 'mail.example' } },
    { label: 'Their language', part: { kind: 'language', is: 'en' } },
    { label: 'Their time zone', part: { kind: 'zone', is: 'Europe/Lisbon' } },
    ...(segments[0] ? [{ label: 'A saved segment', part: { kind: 'segment', id: segments[0].id } as const }] : []),
  ];
}

function AddPart({
  add,
  choices,
  group,
  first,
}: {
  add: (part: Condition) => void;
  choices: SentenceChoices;
  group: boolean;
  first: boolean;
}) {
  const parts = [
    ...partsOf(choices),
    ...(group
      ? [
          {
            label: 'Several of which one is enough',
            part: {
              kind: 'any',
              of: [
                { kind: 'read within', days: 90 },
                { kind: 'came within', days: 90 },
              ],
            } as Condition,
          },
        ]
      : []),
  ];
  return (
    <Menu as="span" className="relative ml-1.5 inline-block font-sans">
      <MenuButton
        className="inline-flex size-[22px] items-center justify-center rounded-full bg-verdigris align-[-4px] text-on-verdigris hover:bg-verdigris-ink"
        aria-label={first ? 'Say who' : 'Add a part'}
      >
        <Plus size={14} aria-hidden />
      </MenuButton>
      <Offered parts={parts} add={add} />
    </Menu>
  );
}
