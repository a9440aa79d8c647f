'use client';

import { type CameBy, FIRST_NAME, type FieldTest, type Leaf, REMEMBERED, STANDINGS } from '@/core/readers/condition';
import { type Names, STANDING_WORDS } from '@/core/readers/tell';
import { Choice, Tick, Words } from '../kit/controls';

/** What a sentence about readers can be made of, as the page has it. */
export type SentenceChoices = {
  lists: { id: string; name: string }[];
  tags: string[];
  sources: string[];
  forms: { id: string; name: string }[];
  imports: { id: string; name: string }[];
  fields: { id: string; label: string; kind: string; options: string[] }[];
  letters: { id: string; subject: string; links: string[] }[];
  segments: { id: string; name: string }[];
  names: Names;
};

type Settings<L extends Leaf> = { leaf: L; change: (leaf: Leaf) => void; choices: SentenceChoices };
const named = (all: { id: string; name: string }[]) => all.map(({ id, name }) => ({ value: id, label: name }));

/** A whole number; what is none counts as nothing. */
function Figure({
  label,
  value,
  change,
  hint,
}: {
  label: string;
  hint?: string;
  value: number | undefined;
  change: (value: number | undefined) => void;
}) {
  return (
    <Words
      label={label}
      hint={hint}
      type="number"
      value={value === undefined ? '' : String(value)}
      change={(text) => {
        const typed = Number(text);
        change(text.trim() === '' || !Number.isFinite(typed) ? undefined : Math.max(0, Math.round(typed)));
      }}
    />
  );
}

/** At least so many, at most so many: at least one of them stays. */
function Bounds<T extends { least?: number; most?: number }>({ value, change }: { value: T; change: (value: T) => void }) {
  const set = (part: { least?: number; most?: number }) => {
    const next = { ...value, ...part };
    if (next.least === undefined) delete next.least;
    if (next.most === undefined) delete next.most;
    if (next.least !== undefined || next.most !== undefined) change(next);
  };
  return (
    <div className="grid grid-cols-2 gap-3">
      <Figure label="At least" value={value.least} change={(least) => set({ least })} />
      <Figure label="At most" value={value.most} change={(most) => set({ most })} />
    </div>
  );
}

/** The few settings of one part of a sentence about readers. */
export function ClauseSettings({ leaf, change, choices }: Settings<Leaf>) {
  switch (leaf.kind) {
    case 'standing':
      return (
        <div className="space-y-2">
          {STANDINGS.map((standing) => (
            <Tick
              key={standing}
              label={STANDING_WORDS[standing][0]!.toUpperCase() + STANDING_WORDS[standing].slice(1)}
              on={leaf.is.includes(standing)}
              change={(on) => {
                const is = STANDINGS.filter((one) => (one === standing ? on : leaf.is.includes(one)));
                if (is.length) change({ ...leaf, is });
              }}
            />
          ))}
        </div>
      );
    case 'list':
      return (
        <>
          <Choice label="List" value={leaf.id} change={(id) => change({ ...leaf, id })} choices={named(choices.lists)} />
          <Choice
            label="Where they stand on it"
            value={leaf.state}
            change={(state) => change({ ...leaf, state })}
            choices={[
              { value: 'reading', label: 'They read it' },
              { value: 'waiting', label: 'They have not confirmed yet' },
              { value: 'left', label: 'They unsubscribed from it' },
            ]}
          />
        </>
      );
    case 'tag':
      return (
        <Choice
          label="Tag"
          value={leaf.tag}
          change={(tag) => change({ ...leaf, tag })}
          choices={withOwn(choices.tags, leaf.tag)}
        />
      );
    case 'came by':
      return (
        <>
          <Choice
            label="By"
            value={leaf.what}
            change={(what) =>
              change({
                ...leaf,
                what,
                is: firstOf(what, choices),
              })
            }
            choices={[
              { value: 'source', label: 'A source' },
              { value: 'form', label: 'A form' },
              { value: 'placement', label: 'A kind of form' },
              { value: 'page', label: 'A page' },
              { value: 'campaign', label: 'A campaign' },
              { value: 'medium', label: 'A medium' },
              ...(choices.imports.length ? [{ value: 'import' as const, label: 'A file' }] : []),
            ]}
          />
          {leaf.what === 'form' ? (
            <Choice label="Form" value={leaf.is} change={(is) => change({ ...leaf, is })} choices={named(choices.forms)} />
          ) : leaf.what === 'import' ? (
            <Choice label="File" value={leaf.is} change={(is) => change({ ...leaf, is })} choices={named(choices.imports)} />
          ) : leaf.what === 'source' ? (
            <Choice
              label="Source"
              value={leaf.is}
              change={(is) => change({ ...leaf, is })}
              choices={withOwn(choices.sources, leaf.is)}
            />
          ) : leaf.what === 'placement' ? (
            <Choice
              label="Kind"
              value={leaf.is}
              change={(is) => change({ ...leaf, is })}
              choices={withOwn(['panel', 'one line', 'ribbon', 'corner card', 'pop-up', 'after-post'], leaf.is)}
            />
          ) : (
            <Words
              label={leaf.what === 'page' ? 'Page, without https://' : 'Its name'}
              value={leaf.is}
              change={(is) => is && change({ ...leaf, is })}
            />
          )}
        </>
      );
    case 'came':
      return (
        <div className="grid grid-cols-2 gap-3">
          {(['from', 'until'] as const).map((end) => (
            <Words
              key={end}
              label={end === 'from' ? 'From' : 'Before'}
              type="date"
              value={leaf[end]?.slice(0, 10) ?? ''}
              change={(day) => {
                const next = { ...leaf, [end]: day ? `${day}T00:00:00Z` : undefined };
                if (!next[end]) delete next[end];
                if (next.from || next.until) change(next);
              }}
            />
          ))}
        </div>
      );
    case 'came within':
    case 'sent within':
    case 'read within':
    case 'clicked within':
      return (
        <Figure
          label="In the last days"
          value={leaf.days}
          change={(days) => days && change({ ...leaf, days: Math.min(days, 3_650) })}
        />
      );
    case 'got':
      return <Bounds value={leaf} change={change} />;
    case 'of the last':
      return (
        <>
          <Choice
            label="What"
            value={leaf.what}
            change={(what) => change({ ...leaf, what })}
            choices={[
              { value: 'read', label: 'Read' },
              { value: 'clicked', label: 'Followed a link in' },
            ]}
          />
          <Bounds value={leaf} change={change} />
          <Figure
            label="Of the last letters they got"
            value={leaf.last}
            change={(last) => last && change({ ...leaf, last: Math.min(last, REMEMBERED) })}
            hint={leaf.most === undefined ? undefined : 'Whoever got fewer is left out: it is too early to say.'}
          />
        </>
      );
    case 'letter': {
      const links = choices.letters.find((letter) => letter.id === leaf.id)?.links ?? [];
      return (
        <>
          <Choice
            label="What"
            value={leaf.what}
            change={(what) => change({ kind: 'letter', id: leaf.id, what })}
            choices={[
              { value: 'got', label: 'Got it' },
              { value: 'read', label: 'Read it' },
              { value: 'unread', label: 'Got it and did not open it' },
              { value: 'clicked', label: 'Followed a link in it' },
            ]}
          />
          <Choice
            label="Letter"
            value={leaf.id}
            change={(id) => change({ kind: 'letter', id, what: leaf.what })}
            choices={choices.letters.map(({ id, subject }) => ({ value: id, label: subject }))}
          />
          {leaf.what === 'clicked' && links.length > 0 && (
            <Choice
              label="Link"
              value={leaf.link === undefined ? '' : String(leaf.link)}
              change={(link) =>
                change({ kind: 'letter', id: leaf.id, what: 'clicked', ...(link === '' ? {} : { link: Number(link) }) })
              }
              choices={[
                { value: '', label: 'Any of them' },
                ...links.map((url, n) => ({ value: String(n), label: `${n + 1}: ${url}` })),
              ]}
            />
          )}
        </>
      );
    }
    case 'warmth':
      return (
        <div className="grid grid-cols-2 gap-3">
          <Figure
            label="From"
            value={leaf.from}
            change={(from) => from !== undefined && change({ ...leaf, from: Math.min(from, 100) })}
          />
          <Figure
            label="To"
            value={leaf.until}
            change={(until) => until !== undefined && change({ ...leaf, until: Math.min(until, 100) })}
          />
        </div>
      );
    case 'field':
      return <FieldSettings leaf={leaf} change={change} choices={choices} />;
    case 'language':
    case 'zone':
    case 'domain':
      return (
        <Words
          label={{ language: 'Language, as two letters', zone: 'Time zone', domain: 'After the @' }[leaf.kind]}
          value={leaf.is}
          change={(is) => is && change({ ...leaf, is: leaf.kind === 'zone' ? is : is.toLowerCase() })}
        />
      );
    case 'segment':
      return (
        <Choice label="Segment" value={leaf.id} change={(id) => change({ ...leaf, id })} choices={named(choices.segments)} />
      );
    case 'warmth unknown':
      return null;
  }
}

const withOwn = (all: readonly string[], own: string) => (all.includes(own) ? all : [own, ...all]);

/** What an answer of a kind is asked for at first. */
export function firstTest(kind: string, options: string[]): FieldTest {
  if (kind === 'number') return { is: 'number', from: 1 };
  if (kind === 'yes/no') return { is: 'yes', value: true };
  if (kind.includes('choice') && options[0]) return { is: 'one of', options: [options[0]] };
  return kind.startsWith('date') ? { is: 'days', back: 0, ahead: 7 } : { is: 'answered' };
}

function FieldSettings({ leaf, change, choices }: Settings<Extract<Leaf, { kind: 'field' }>>) {
  const all = [{ id: FIRST_NAME, label: 'First name', kind: 'text', options: [] as string[] }, ...choices.fields];
  const field = all.find((one) => one.id === leaf.id) ?? all[0]!;
  const { test } = leaf;
  const set = (next: FieldTest) => change({ ...leaf, test: next });
  const isDay = field.kind.startsWith('date');
  const isText = ['text', 'long text', 'phone', 'choice'].includes(field.kind);
  const tests: { value: FieldTest['is']; label: string; first: FieldTest }[] = [
    { value: 'answered', label: 'It was answered', first: { is: 'answered' } },
    ...(isText
      ? [{ value: 'text' as const, label: 'By its words', first: { is: 'text' as const, how: 'contains' as const, text: 'a' } }]
      : []),
    ...(field.kind === 'number'
      ? [{ value: 'number' as const, label: 'By its figure', first: { is: 'number' as const, from: 1 } }]
      : []),
    ...(isDay
      ? [
          { value: 'days' as const, label: 'By how near it is', first: { is: 'days' as const, back: 0, ahead: 7 } },
          { value: 'day' as const, label: 'By its date', first: { is: 'day' as const, from: '2026-01-01' } },
        ]
      : []),
    ...(field.kind === 'yes/no'
      ? [{ value: 'yes' as const, label: 'Yes or no', first: { is: 'yes' as const, value: true } }]
      : []),
    ...(field.options[0]
      ? [{ value: 'one of' as const, label: 'By what was chosen', first: { is: 'one of' as const, options: [field.options[0]] } }]
      : []),
  ];
  return (
    <>
      <Choice
        label="Question"
        value={field.id}
        change={(id) => {
          const next = all.find((one) => one.id === id)!;
          change({ kind: 'field', id, test: firstTest(next.kind, next.options) });
        }}
        choices={all.map(({ id, label }) => ({ value: id, label }))}
      />
      <Choice label="How" value={test.is} change={(is) => set(tests.find((one) => one.value === is)!.first)} choices={tests} />
      {test.is === 'text' && (
        <>
          <Choice
            label="It"
            value={test.how}
            change={(how) => set({ ...test, how })}
            choices={['is', 'contains', 'begins with']}
          />
          <Words label="These words" value={test.text} change={(text) => text && set({ ...test, text })} />
        </>
      )}
      {test.is === 'number' && (
        <Bounds
          value={{ least: test.from, most: test.until }}
          change={({ least, most }) =>
            set({ is: 'number', ...(least === undefined ? {} : { from: least }), ...(most === undefined ? {} : { until: most }) })
          }
        />
      )}
      {test.is === 'days' && (
        <div className="grid grid-cols-2 gap-3">
          <Figure label="Days back" value={test.back} change={(back) => set({ ...test, back: back ?? 0 })} />
          <Figure label="Days ahead" value={test.ahead} change={(ahead) => set({ ...test, ahead: ahead ?? 0 })} />
        </div>
      )}
      {test.is === 'day' && (
        <div className="grid grid-cols-2 gap-3">
          {(['from', 'until'] as const).map((end) => (
            <Words
              key={end}
              label={end === 'from' ? 'From' : 'To'}
              type="date"
              value={test[end] ?? ''}
              change={(day) => {
                const next: FieldTest = { ...test, [end]: day || undefined };
                if (!next[end]) delete next[end];
                if (next.from || next.until) set(next);
              }}
            />
          ))}
        </div>
      )}
      {test.is === 'yes' && (
        <Choice
          label="Answer"
          value={test.value ? 'yes' : 'no'}
          change={(value) => set({ is: 'yes', value: value === 'yes' })}
          choices={['yes', 'no']}
        />
      )}
      {test.is === 'one of' && (
        <div className="max-h-56 space-y-2 overflow-y-auto">
          {field.options.map((option) => (
            <Tick
              key={option}
              label={option}
              on={test.options.includes(option)}
              change={(on) => {
                const options = field.options.filter((one) => (one === option ? on : test.options.includes(one)));
                if (options.length) set({ is: 'one of', options });
              }}
            />
          ))}
        </div>
      )}
    </>
  );
}

/** What a way of coming is first set to. */
function firstOf(what: CameBy, { forms, imports, sources }: SentenceChoices): string {
  if (what === 'form') return forms[0]?.id ?? '';
  if (what === 'import') return imports[0]?.id ?? '';
  return what === 'source' ? (sources[0] ?? 'direct') : 'x';
}
