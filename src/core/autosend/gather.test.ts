import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { letterWords } from '../writing/words';
import { afterRun, comingRuns, fateWords, type Gathered, type Gathering, gather, subjectOf } from './gather';
import type { Rhythm } from './rhythm';

const NOON = new Date('2026-11-26T12:00:00Z');
const minutes = (n: number) => new Date(NOON.getTime() + n * 60_000);
const post = (key: string, more: Partial<Gathered> = {}): Gathered => ({
  key,
  place: null,
  bundle: null,
  title: `Post ${key}`,
  topics: [],
  author: '',
  words: '',
  publishedAt: minutes(-60),
  seenAt: minutes(-60),
  changedAt: minutes(-60),
  state: 'waiting',
  gone: false,
  ...more,
});
const ALL: Gathering = { topics: [], authors: [], including: [], leavingOut: [], quietMs: 20 * 60_000, most: 10, rest: 'next' };
const fates = (posts: Gathered[], of: Partial<Gathering> = {}, at = NOON) =>
  Object.fromEntries(gather(posts, { ...ALL, ...of }, at).map((one) => [one.post.key, one.fate]));

describe('what a run holds', () => {
  it('is what waits and has stood unchanged, the oldest first', () => {
    const judged = gather([post('a'), post('c', { publishedAt: null, seenAt: minutes(-90) }), post('b')], ALL, NOON);
    expect(judged.map((one) => [one.post.key, one.fate])).toEqual([
      ['c', 'in'],
      ['a', 'in'],
      ['b', 'in'],
    ]);
    expect(
      fates([
        post('before', { state: 'before' }),
        post('sent', { state: 'sent', changedAt: minutes(-1) }),
        post('left', { state: 'left out' }),
        post('gone', { gone: true }),
        post('ahead', { publishedAt: minutes(1) }),
        post('editing', { changedAt: minutes(-19) }),
        post('quiet', { changedAt: minutes(-20) }),
      ]),
    ).toEqual({
      before: 'before',
      sent: 'sent',
      left: 'left out',
      gone: 'gone',
      ahead: 'ahead',
      editing: 'editing',
      quiet: 'in',
    });
  });
  it('is what the rule takes: by topic, author and words, whatever their letters’ size', () => {
    const posts = [
      post('a', { topics: ['Deep Water'], author: 'Mara', words: 'A lamp in the reeds' }),
      post('b', { topics: ['shallows'], author: 'Otto', words: 'An owl' }),
    ];
    expect(fates(posts, { topics: ['deep water'] })).toEqual({ a: 'in', b: 'no match' });
    expect(fates(posts, { authors: [' otto '] })).toEqual({ a: 'no match', b: 'in' });
    expect(fates(posts, { including: ['LAMP', 'nothing'] })).toEqual({ a: 'in', b: 'no match' });
    expect(fates(posts, { leavingOut: ['owl'] })).toEqual({ a: 'in', b: 'no match' });
    expect(fates(posts, { leavingOut: [' '] })).toEqual({ a: 'in', b: 'in' });
  });
  it('is no more than one letter holds; the rest goes into the next one, or never', () => {
    const posts = ['a', 'b', 'c'].map((key) => post(key));
    expect(fates(posts, { most: 2 })).toEqual({ a: 'in', b: 'in', c: 'over' });
    const states = (rest: 'next' | 'never') => {
      const of = { ...ALL, most: 2, rest };
      return afterRun(gather(posts, of, NOON), of).map((one) => one.state);
    };
    expect(states('next')).toEqual(['sent', 'sent', 'waiting']);
    expect(states('never')).toEqual(['sent', 'sent', 'left out']);
  });
  it('has each post once at most over all runs, and each that it takes in the end, whatever is edited, taken down and put back meanwhile', () => {
    const act = fc.oneof(
      fc.record({ kind: fc.constant('edit' as const), n: fc.nat(7) }),
      fc.record({ kind: fc.constant('take down' as const), n: fc.nat(7) }),
      fc.record({ kind: fc.constant('put back' as const), n: fc.nat(7) }),
      fc.record({ kind: fc.constant('run' as const) }),
      fc.record({ kind: fc.constant('appear' as const) }),
    );
    fc.assert(
      fc.property(fc.array(act, { maxLength: 60 }), fc.integer({ min: 1, max: 4 }), (acts, most) => {
        const of = { ...ALL, most };
        let posts: Gathered[] = [];
        const sent: string[] = [];
        let now = NOON.getTime();
        const run = () => {
          const judged = gather(posts, of, new Date(now));
          for (const one of judged) if (one.fate === 'in') sent.push(one.post.key);
          posts = afterRun(judged, of);
        };
        for (const one of acts) {
          now += 7 * 60_000;
          const change = (more: Partial<Gathered>) => {
            if ('n' in one) posts = posts.map((post, n) => (n === one.n ? { ...post, ...more } : post));
          };
          if (one.kind === 'edit') change({ changedAt: new Date(now), title: 'Edited' });
          if (one.kind === 'take down') change({ gone: true });
          if (one.kind === 'put back') change({ gone: false });
          if (one.kind === 'appear')
            posts = [
              ...posts,
              post(`p${posts.length}-${now}`, { publishedAt: new Date(now), seenAt: new Date(now), changedAt: new Date(now) }),
            ];
          if (one.kind === 'run') run();
        }
        now += 3_600_000;
        for (let n = 0; n < 61; n += 1) run();
        expect(new Set(sent).size).toBe(sent.length);
        expect(posts.filter((post) => post.state === 'waiting').every((post) => post.gone)).toBe(true);
      }),
      { numRuns: 200 },
    );
  });
});

describe('the runs that are to come', () => {
  const coming = (posts: Gathered[], rhythm: Rhythm, more: { of?: Partial<Gathering>; skipped?: Date; most?: number } = {}) =>
    comingRuns(posts, { ...ALL, ...more.of }, rhythm, 'Europe/Lisbon', {
      after: NOON,
      most: more.most ?? 3,
      skipped: more.skipped ?? null,
    }).map((run) => [
      run.at?.toISOString().slice(5, 16) ?? null,
      run.judged
        .filter((one) => one.fate === 'in')
        .map((one) => one.post.key)
        .join(''),
    ]);
  const daily = { kind: 'days', days: [1, 2, 3, 4, 5, 6, 7], hour: '07:00' } as const;
  it('of hours stand there whether they hold something or not, and hold what will be ready then', () => {
    const posts = [post('a'), post('b', { changedAt: minutes(24 * 60) }), post('c', { publishedAt: minutes(30 * 60) })];
    expect(coming(posts, { ...daily, days: [...daily.days] })).toEqual([
      ['11-27T07:00', 'a'],
      ['11-28T07:00', 'bc'],
      ['11-29T07:00', ''],
    ]);
    const skipped = new Date('2026-11-27T07:00:00Z');
    expect(coming(posts, { ...daily, days: [...daily.days] }, { skipped })).toEqual([
      ['11-27T07:00', ''],
      ['11-28T07:00', 'abc'],
      ['11-29T07:00', ''],
    ]);
    expect(
      coming([post('a'), post('b')], { ...daily, days: [...daily.days] }, { of: { most: 1 } }).map(([, keys]) => keys),
    ).toEqual(['a', 'b', '']);
  });
  it('post by post are one each, at the moment at which each is ready; those of a bundle are one', () => {
    const posts = [post('a'), post('b', { changedAt: minutes(-5) }), post('c', { publishedAt: minutes(90) })];
    expect(coming(posts, { kind: 'each' })).toEqual([
      ['11-26T12:00', 'a'],
      ['11-26T12:15', 'b'],
      ['11-26T13:30', 'c'],
    ]);
    expect(coming([], { kind: 'each' })).toEqual([]);
    const bundled = ['x', 'y', 'z'].map((key, n) => post(key, { place: n + 1, bundle: n < 2 ? 'one' : null }));
    expect(coming(bundled, { kind: 'each' }).map(([, keys]) => keys)).toEqual(['xy', 'z']);
  });
  it('gathered come once so many wait, and nobody can say when where they do not', () => {
    const posts = ['a', 'b', 'c'].map((key) => post(key));
    expect(coming(posts, { kind: 'gathered', posts: 2 }, { of: { most: 2 } })).toEqual([
      ['11-26T12:00', 'ab'],
      [null, 'c'],
    ]);
  });
});

describe('in words', () => {
  it('it is said why', () => {
    const [one] = gather([post('a', { changedAt: NOON })], ALL, NOON);
    expect(fateWords(one!, 'Europe/Lisbon')).toBe(
      'still being edited: waits until Thursday, 26 November 2026, 12:20 (Europe/Lisbon)',
    );
    const [ahead] = gather([post('a', { publishedAt: minutes(60) })], ALL, NOON);
    expect(fateWords(ahead!, 'Europe/Lisbon')).toContain('is dated ahead');
    for (const fate of ['in', 'before', 'sent', 'left out', 'gone', 'no match', 'over'] as const)
      expect(fateWords({ fate, until: null }, 'UTC')).not.toBe('');
  });
  it.each<[string, string[], string]>([
    ['‹first title› ‹and more›', ['Eels', 'Owls', 'Reeds'], 'Eels and 2 more'],
    ['‹first title› ‹and more›', ['Eels'], 'Eels'],
    ['‹posts› of ‹date›: ‹titles›', ['Eels', 'Owls'], '2 posts of 26 November: Eels · Owls'],
    ['‹and more›', ['Eels'], 'Eels'],
    ['', ['Eels'], 'Eels'],
    ['‹odd› ‹posts›', ['Eels'], '‹odd› 1 posts'],
    ['‹first title›', ['‹date›'], '‹date›'],
  ])('a subject %s of %j: %s', (pattern, titles, said) => {
    expect(subjectOf(pattern, titles, '26 November', letterWords('en'))).toBe(said);
  });
});
