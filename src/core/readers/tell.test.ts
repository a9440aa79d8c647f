import { describe, expect, it } from 'vitest';
import { type Condition, conditionSchema } from './condition';
import { type Names, tell } from './tell';
import { conditionOf, EVERYONE, readView, writeView } from './view';

const ID = '01a2153e-f122-7695-8f3f-000000000001';
const NAMES: Names = {
  lists: { [ID]: 'Thursday letters' },
  forms: { [ID]: 'Corner card' },
  imports: { [ID]: 'old-site.csv' },
  fields: { [ID]: 'Depth' },
  letters: { [ID]: 'Slow light' },
  segments: { [ID]: 'Cold for half a year' },
};

describe('a condition told in words', () => {
  it.each<[Condition, string, string]>([
    [
      { kind: 'standing', is: ['reading', 'waiting'] },
      'are reading or waiting to confirm',
      'are not reading or waiting to confirm',
    ],
    [{ kind: 'list', id: ID, state: 'reading' }, 'read Thursday letters', 'do not read Thursday letters'],
    [
      { kind: 'list', id: ID.replace('1', '2'), state: 'left' },
      'unsubscribed from something that was deleted',
      'never unsubscribed from something that was deleted',
    ],
    [{ kind: 'tag', tag: 'Reef' }, 'have the tag “Reef”', 'do not have the tag “Reef”'],
    [{ kind: 'came by', what: 'import', is: ID }, 'came by the file “old-site.csv”', 'did not come by the file “old-site.csv”'],
    [{ kind: 'came by', what: 'form', is: ID }, 'came by the form “Corner card”', 'did not come by the form “Corner card”'],
    [{ kind: 'came', from: '2026-05-01T00:00:00Z' }, 'came from 1 May 2026', 'did not come from 1 May 2026'],
    [{ kind: 'read within', days: 1 }, 'read a letter in the last day', 'have not read a letter in the last day'],
    [{ kind: 'got', least: 5, most: 5 }, 'got just 5 of your letters', 'did not get just 5 of your letters'],
    [
      { kind: 'of the last', last: 8, what: 'read', most: 0 },
      'read none of the last 8 letters they got',
      'have not read none of the last 8 letters they got',
    ],
    [
      { kind: 'of the last', last: 12, what: 'clicked', least: 3 },
      'followed links in at least 3 of the last 12 letters they got',
      'have not followed links in at least 3 of the last 12 letters they got',
    ],
    [
      { kind: 'letter', id: ID, what: 'clicked', link: 2 },
      'followed link 3 in “Slow light”',
      'did not follow link 3 in “Slow light”',
    ],
    [
      { kind: 'field', id: ID, test: { is: 'number', from: 600 } },
      'answered “Depth” with at least 600',
      'did not answer “Depth” with at least 600',
    ],
    [
      { kind: 'field', id: 'first_name', test: { is: 'text', how: 'is', text: 'Zoë' } },
      'gave a first name: “Zoë”',
      'did not give a first name: “Zoë”',
    ],
    [{ kind: 'language', is: 'pt' }, 'signed up in Portuguese', 'did not sign up in Portuguese'],
    [{ kind: 'segment', id: ID }, 'are in “Cold for half a year”', 'are not in “Cold for half a year”'],
  ])('%o', (condition, yes, no) => {
    expect(conditionSchema.validate(condition).error).toBeUndefined();
    expect(tell(condition, NAMES)).toBe(`People who ${yes}.`);
    expect(tell({ kind: 'none', of: [condition] }, NAMES)).toBe(`People who ${no}.`);
  });
  it('says how parts belong together', () => {
    const list: Condition = { kind: 'list', id: ID, state: 'reading' };
    const tag: Condition = { kind: 'tag', tag: 'Reef' };
    expect(tell({ kind: 'all', of: [list, { kind: 'any', of: [tag, { kind: 'none', of: [tag] }] }] }, NAMES)).toBe(
      'People who read Thursday letters, and who (have the tag “Reef”, or who do not have the tag “Reef”).',
    );
    expect(tell({ kind: 'none', of: [list, tag] }, NAMES)).toBe(
      'People who are none of those who read Thursday letters, or who have the tag “Reef”.',
    );
    expect(tell(EVERYONE, NAMES)).toBe('Everyone.');
    expect(tell({ kind: 'any', of: [] }, NAMES)).toBe('Nobody.');
  });
});

describe('a view in the address bar', () => {
  it('comes back as it was', () => {
    const view = {
      ...readView({}),
      find: 'wren',
      state: 'reading' as const,
      list: ID,
      tag: 'Reef & co',
      where: { kind: 'tag', tag: 'a' } as Condition,
      order: 'warmest' as const,
    };
    expect(readView(Object.fromEntries(writeView(view)))).toEqual(view);
    expect(writeView(readView({})).toString()).toBe('');
    expect(conditionOf(view)).toEqual({
      kind: 'all',
      of: [
        { kind: 'standing', is: ['reading'] },
        { kind: 'list', id: ID, state: 'reading' },
        { kind: 'tag', tag: 'Reef & co' },
        { kind: 'tag', tag: 'a' },
      ],
    });
  });
  it('that is narrowed to a list, a tag, a source or a form shows who reads, unless a state is chosen', () => {
    const of = (query: Record<string, string>) => conditionOf(readView(query));
    const reads = { kind: 'standing', is: ['reading'] };
    expect(of({ tag: 'reef' })).toEqual({ kind: 'all', of: [reads, { kind: 'tag', tag: 'reef' }] });
    expect(of({ list: ID })).toEqual({ kind: 'all', of: [reads, { kind: 'list', id: ID, state: 'reading' }] });
    expect(of({ list: ID, state: 'waiting' })).toEqual({
      kind: 'all',
      of: [
        { kind: 'standing', is: ['waiting'] },
        { kind: 'list', id: ID, state: 'waiting' },
      ],
    });
    expect(of({ segment: ID })).toEqual({ kind: 'segment', id: ID });
    expect(of({})).toEqual(EVERYONE);
  });
  it.each([
    { q: ['a', 'b'] },
    { state: 'rich' },
    { list: "x' or 1" },
    { tag: 'a\0' },
    { where: '{"kind":"everyone"}' },
    { where: '{' },
    { where: JSON.stringify(EVERYONE).slice(0, -1) },
  ])('that was cut off or tampered with shows nobody: %o', (query) => {
    expect(readView(query).where).toEqual({ kind: 'any', of: [] });
  });
  it('in an order that there is none of, or with what is empty, is everyone', () => {
    expect(readView({ order: 'by luck', segment: '', q: '' })).toEqual(readView({}));
  });
});
