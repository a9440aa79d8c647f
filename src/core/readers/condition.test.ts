import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { conditionsIn, expandAudience, isIn, listsIn } from '../sending/audience';
import { audienceSchema } from '../sending/schemas';
import {
  type Condition,
  conditionSchema,
  expand,
  type FieldTest,
  folded,
  holds,
  type Known,
  leavesOf,
  type ReaderFacts,
} from './condition';

const NOW = new Date('2026-11-24T09:00:00Z');
const DAY = 86_400_000;
const ago = (days: number) => new Date(NOW.getTime() - days * DAY);
const MOMENT = { now: NOW, today: '2026-11-24' };
const ID = (n: number) => `01a2153e-f122-7695-8f3f-00000000000${n}`;

const FACTS: ReaderFacts = {
  id: ID(0),
  standing: 'reading',
  lists: [
    { id: ID(1), state: 'reading' },
    { id: ID(2), state: 'left' },
  ],
  tags: ['keen'],
  came: { source: 'reefboard', campaign: null, page: 'reef.example/log', form: ID(7) },
  cameAt: ago(100),
  lastSentAt: ago(3),
  lastReadAt: ago(20),
  lastClickedAt: null,
  got: 5,
  recentRead: 0b01010n,
  recentClicked: 0n,
  recentHidden: 0n,
  textAlone: false,
  warmth: 40,
  language: 'pt-PT',
  zone: 'Europe/Lisbon',
  domain: 'heronmail.example',
  firstName: 'Zoë',
  answers: new Map<string, ReaderFacts['answers'] extends ReadonlyMap<string, infer A> ? A : never>([
    [ID(3), 600],
    [ID(4), '2026-12-01'],
    [ID(5), ['squid', 'lamp']],
    [ID(6), true],
    [ID(8), ''],
  ]),
  letters: new Map([[ID(9), { got: true, read: true, clicked: true, hidden: false, links: [2] }]]),
};
const yes = (condition: Condition, facts: Partial<ReaderFacts> = {}) => holds(condition, { ...FACTS, ...facts }, MOMENT);
const KNOWN: Known = {
  lists: new Map([[ID(1), 'Thursday letters']]),
  tags: new Set(['keen']),
  forms: new Map([[ID(7), 'After every article']]),
  imports: new Map([[ID(8), 'old-site.csv']]),
  fields: new Map([[ID(3), 'Depth']]),
  letters: new Map([[ID(9), '2026-11-20']]),
  segments: new Map(),
};

describe('a condition', () => {
  it.each<[string, Condition, boolean]>([
    ['all of none', { kind: 'all', of: [] }, true],
    ['any of none', { kind: 'any', of: [] }, false],
    ['none of none', { kind: 'none', of: [] }, true],
    ['where they stand', { kind: 'standing', is: ['waiting', 'reading'] }, true],
    ['a list that they read', { kind: 'list', id: ID(1), state: 'reading' }, true],
    ['a list that they left', { kind: 'list', id: ID(2), state: 'left' }, true],
    ['a list that they never were on', { kind: 'list', id: ID(3), state: 'left' }, false],
    ['a tag', { kind: 'tag', tag: 'keen' }, true],
    ['a tag with a large letter, which is another', { kind: 'tag', tag: 'Keen' }, false],
    ['a source', { kind: 'came by', what: 'source', is: 'reefboard' }, true],
    ['a campaign, where none is known', { kind: 'came by', what: 'campaign', is: 'autumn' }, false],
    ['a first day that is within', { kind: 'came', from: ago(100).toISOString() }, true],
    ['a last moment that is not', { kind: 'came', until: ago(100).toISOString() }, false],
    ['coming lately', { kind: 'came within', days: 99 }, false],
    ['being sent something lately', { kind: 'sent within', days: 3 }, true],
    ['reading lately', { kind: 'read within', days: 20 }, true],
    ['reading lately, a day less', { kind: 'read within', days: 19 }, false],
    ['clicking, where they never did', { kind: 'clicked within', days: 3_650 }, false],
    ['how many they got', { kind: 'got', least: 5, most: 5 }, true],
    ['two of the last five read', { kind: 'of the last', last: 5, what: 'read', least: 2, most: 2 }, true],
    ['none of the last five read', { kind: 'of the last', last: 5, what: 'read', most: 0 }, false],
    ['none of the last one read', { kind: 'of the last', last: 1, what: 'read', most: 0 }, true],
    ['none of the last eight, of whom too few came', { kind: 'of the last', last: 8, what: 'clicked', most: 0 }, false],
    ['a letter read', { kind: 'letter', id: ID(9), what: 'read' }, true],
    ['its third link', { kind: 'letter', id: ID(9), what: 'clicked', link: 2 }, true],
    ['its fourth link', { kind: 'letter', id: ID(9), what: 'clicked', link: 3 }, false],
    ['a letter left unread, which they read', { kind: 'letter', id: ID(9), what: 'unread' }, false],
    ['a letter that was not theirs', { kind: 'letter', id: ID(1), what: 'got' }, false],
    ['warmth', { kind: 'warmth', from: 40, until: 60 }, true],
    ['warmth that is unknown', { kind: 'warmth unknown' }, false],
    ['a language, whatever its country', { kind: 'language', is: 'pt' }, true],
    ['a zone', { kind: 'zone', is: 'Europe/Lisbon' }, true],
    ['a domain', { kind: 'domain', is: 'heronmail.example' }, true],
    ['a saved segment that was not put in', { kind: 'segment', id: ID(1) }, false],
  ])('asks for %s', (_, condition, wanted) => {
    expect(conditionSchema.validate(condition).error).toBeUndefined();
    expect(yes(condition)).toBe(wanted);
    expect(yes({ kind: 'none', of: [condition] })).toBe(!wanted);
  });

  it.each<[string, string, FieldTest, boolean]>([
    ['a name, whatever its letters’ size and form', 'first_name', { is: 'text', how: 'is', text: 'ZOE\u0308' }, true],
    ['the beginning of a name', 'first_name', { is: 'text', how: 'begins with', text: 'zo' }, true],
    ['a percent sign, which is one', 'first_name', { is: 'text', how: 'contains', text: '%' }, false],
    ['an answer', ID(3), { is: 'answered' }, true],
    ['an empty answer, which is none', ID(8), { is: 'answered' }, false],
    ['a question that was not put', ID(2), { is: 'answered' }, false],
    ['a number within', ID(3), { is: 'number', from: 600, until: 600 }, true],
    ['a number as text', ID(3), { is: 'text', how: 'is', text: '600' }, false],
    ['a day', ID(4), { is: 'day', from: '2026-12-01', until: '2026-12-01' }, true],
    ['the week to come', ID(4), { is: 'days', back: 0, ahead: 7 }, true],
    ['six days to come', ID(4), { is: 'days', back: 0, ahead: 6 }, false],
    ['one of several choices', ID(5), { is: 'one of', options: ['lamp', 'shell'] }, true],
    ['yes', ID(6), { is: 'yes', value: true }, true],
    ['no', ID(6), { is: 'yes', value: false }, false],
  ])('asks an answer for %s', (_, id, test, wanted) => {
    expect(conditionSchema.validate({ kind: 'field', id, test }).error).toBeUndefined();
    expect(yes({ kind: 'field', id, test })).toBe(wanted);
  });

  it.each<[string, unknown]>([
    ['another kind', { kind: 'everyone' }],
    ['what is no id', { kind: 'list', id: "x' or true", state: 'reading' }],
    ['a NUL', { kind: 'tag', tag: 'a\0b' }],
    ['no end at all', { kind: 'got' }],
    [
      'what nobody can read any more',
      Array.from({ length: 9 }).reduce<Condition>((of) => ({ kind: 'all', of: [of] }), { kind: 'warmth unknown' }),
    ],
    [
      'more than anybody reads',
      {
        kind: 'any',
        of: Array.from({ length: 5 }, () => ({
          kind: 'any',
          of: Array.from({ length: 50 }, () => ({ kind: 'warmth unknown' })),
        })),
      },
    ],
  ])('refuses %s', (_, condition) => expect(conditionSchema.validate(condition).error).toBeDefined());

  it('takes a letter for unread only where reading it could have been seen', () => {
    const unread: Condition = { kind: 'letter', id: ID(9), what: 'unread' };
    const copy = { got: true, read: false, clicked: false, hidden: false, links: [] };
    const of = (more: Partial<typeof copy>, facts: Partial<ReaderFacts> = {}) =>
      yes(unread, { letters: new Map([[ID(9), { ...copy, ...more }]]), ...facts });
    expect(of({})).toBe(true);
    expect(of({ got: false })).toBe(false);
    expect(of({ hidden: true })).toBe(false);
    // A click that no picture told of.
    expect(of({ clicked: true })).toBe(false);
    expect(of({}, { textAlone: true })).toBe(false);
    // A machine has opened their letters lately, and they were never seen to.
    expect(of({}, { recentHidden: 0b110n, recentRead: 0n })).toBe(false);
    expect(of({}, { recentHidden: 0b110n, recentRead: 0b1000n })).toBe(true);
    expect(of({}, { recentHidden: 1n << 6n, recentRead: 0n })).toBe(true);
  });
  it('compares texts letter by letter, so that what begins with something stays so when it is folded', () => {
    fc.assert(
      fc.property(fc.string({ unit: 'binary' }), fc.string({ unit: 'binary' }), (a, b) => {
        expect(folded(folded(a))).toBe(folded(a));
        const [first, whole] = [a.normalize('NFC'), (a + b).normalize('NFC')];
        fc.pre(whole.startsWith(first));
        expect(folded(whole).startsWith(folded(first))).toBe(true);
      }),
    );
    expect(folded('ΟΔΟΣ')).toBe(folded('οδοσ'));
  });
});

describe('a segment that names another', () => {
  const segments = (all: Record<string, Condition>): Known => ({
    ...KNOWN,
    segments: new Map(Object.entries(all).map(([id, condition]) => [id, { name: id, condition }])),
  });
  const ofList: Condition = { kind: 'list', id: ID(1), state: 'reading' };
  it('has it put in', () => {
    const known = segments({
      [ID(1)]: { kind: 'any', of: [ofList, { kind: 'segment', id: ID(2) }] },
      [ID(2)]: { kind: 'tag', tag: 'keen' },
    });
    expect(expand({ kind: 'none', of: [{ kind: 'segment', id: ID(1) }] }, known)).toEqual({
      condition: { kind: 'none', of: [{ kind: 'any', of: [ofList, { kind: 'tag', tag: 'keen' }] }] },
      missing: [],
    });
  });
  it.each<[string, Condition, Known, string]>([
    ['a list', { kind: 'list', id: ID(2), state: 'reading' }, KNOWN, 'list'],
    ['a tag', { kind: 'tag', tag: 'gone' }, KNOWN, 'tag'],
    ['a form', { kind: 'came by', what: 'form', is: ID(1) }, KNOWN, 'form'],
    ['a field', { kind: 'field', id: ID(1), test: { is: 'answered' } }, KNOWN, 'field'],
    ['a letter', { kind: 'letter', id: ID(1), what: 'read' }, KNOWN, 'letter'],
    ['a segment', { kind: 'segment', id: ID(5) }, KNOWN, 'segment'],
    [
      'itself',
      { kind: 'segment', id: ID(1) },
      segments({ [ID(1)]: { kind: 'any', of: [{ kind: 'segment', id: ID(2) }] }, [ID(2)]: { kind: 'segment', id: ID(1) } }),
      'circle',
    ],
  ])('holds nobody where it names %s that is not there, least of all everyone', (_, condition, known, missing) => {
    for (const whole of [
      condition,
      { kind: 'none' as const, of: [condition] },
      { kind: 'any' as const, of: [ofList, condition] },
    ]) {
      const expanded = expand(whole, known);
      expect(expanded.missing).toEqual([missing]);
      expect(yes(expanded.condition)).toBe(false);
    }
  });
});

describe('an audience', () => {
  const of = (reading: string[], tags: string[] = []) => ({
    ...FACTS,
    lists: reading.map((id) => ({ id, state: 'reading' as const })),
    tags,
  });
  const audience = {
    to: [
      { kind: 'list' as const, id: ID(1) },
      { kind: 'tag' as const, tag: 'keen' },
    ],
    without: [{ kind: 'list' as const, id: ID(2) }],
  };
  it('is a union without another, and holds nobody who reads nothing', () => {
    expect(isIn(audience, of([ID(1)]), MOMENT)).toBe(true);
    expect(isIn(audience, of([ID(3)], ['keen']), MOMENT)).toBe(true);
    expect(isIn(audience, of([], ['keen']), MOMENT)).toBe(false);
    expect(isIn(audience, of([ID(1), ID(2)]), MOMENT)).toBe(false);
    expect(isIn({ to: [{ kind: 'segment', id: ID(1) }], without: [] }, FACTS, MOMENT)).toBe(false);
    expect(listsIn(audience)).toEqual([ID(1)]);
  });
  it('says what it names that is not there, on either side', () => {
    expect(expandAudience(audience, KNOWN).missing).toEqual(['list']);
    expect(expandAudience({ to: audience.to, without: [{ kind: 'segment', id: ID(4) }] }, KNOWN).missing).toEqual(['segment']);
    const known = {
      ...KNOWN,
      segments: new Map([[ID(4), { name: 'Keen', condition: { kind: 'tag', tag: 'keen' } as Condition }]]),
    };
    expect(expandAudience({ to: [{ kind: 'segment', id: ID(4) }], without: [] }, known)).toEqual({
      audience: { to: [{ kind: 'those', condition: { kind: 'tag', tag: 'keen' } }], without: [] },
      missing: [],
    });
    expect(conditionsIn({ to: [{ kind: 'segment', id: ID(4) }], without: audience.to }).flatMap(leavesOf)).toEqual([
      { kind: 'segment', id: ID(4) },
      { kind: 'tag', tag: 'keen' },
    ]);
  });
  it('is checked: at least one part, known kinds only, conditions nested', () => {
    const nested: Condition = {
      kind: 'all',
      of: [
        { kind: 'any', of: [{ kind: 'tag', tag: 'a' }] },
        { kind: 'none', of: [{ kind: 'read within', days: 5 }] },
      ],
    };
    expect(
      audienceSchema.validate({
        to: [
          { kind: 'those', condition: nested },
          { kind: 'list', id: ID(1) },
        ],
      }).error,
    ).toBeUndefined();
    expect(audienceSchema.validate({ to: [] }).error).toBeDefined();
    expect(audienceSchema.validate({ to: [{ kind: 'everyone' }] }).error).toBeDefined();
    expect(audienceSchema.validate({ to: [{ kind: 'list', id: "x' or true" }] }).error).toBeDefined();
  });
});
