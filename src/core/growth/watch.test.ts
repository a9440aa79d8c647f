import { describe, expect, it } from 'vitest';
import { ELSEWHERE, NO_COPIES, type Provider, standingOf } from '../delivery/standing';
import { dayAfter } from './periods';
import { type Watched, warningsOf } from './watch';
import { isEmptyWeek, type Week, weekWords } from './week';

const LATELY = '2026-11-02';
const mondays = Array.from({ length: 26 }, (_, n) => dayAfter('2026-05-25', 7 * n));
/** A provider that gets 500 copies a week: what becomes of them before lately, and since. */
function provider(
  name: string,
  before: Partial<Provider['weeks'][number]['copies']>,
  since: Partial<Provider['weeks'][number]['copies']>,
  ended = 0,
): Provider {
  return {
    name,
    weeks: mondays.map((week) => {
      const own = week < LATELY ? before : since;
      return { week, copies: { ...NO_COPIES, delivered: 500 - (own.refused ?? 0), read: 250, ...own } };
    }),
    reasons: ended ? [{ reason: 'reputation', putOff: 0, ended }] : [],
  };
}
const watched = (providers: Provider[], more: Partial<Watched> = {}): Watched => ({
  lately: LATELY,
  providers,
  standings: providers.map((one) => standingOf(one, providers, { shown: LATELY, lately: LATELY })),
  confirmed: { past: Array.from({ length: 12 }, () => ({ part: 80, whole: 100 })), latest: { part: 79, whole: 100 } },
  joined: { past: Array.from({ length: 12 }, (_, n) => 40 + (n % 3)), latest: 41 },
  ...more,
});
const kinds = (of: Watched) => warningsOf(of).map(({ kind, about }) => (about ? `${kind} ${about}` : kind));

describe('what is out of the usual', () => {
  it('is nothing where all is as ever', () => {
    expect(
      kinds(watched([provider('a', {}, {}), provider('b', { refused: 20, complained: 1 }, { refused: 20, complained: 1 }, 100)])),
    ).toEqual([]);
    expect(
      kinds(watched([], { joined: { past: [], latest: 0 }, confirmed: { past: [], latest: { part: 0, whole: 0 } } })),
    ).toEqual([]);
  });

  it('is more complaints than usual, with what they lead to', () => {
    const [warning, ...rest] = warningsOf(watched([provider('a', {}, { complained: 2 }), provider('b', {}, {})]));
    expect(rest).toEqual([]);
    expect(warning).toMatchObject({ kind: 'complaints', path: '/delivery?days=28' });
    expect(warning!.words[0]).toBe(
      '6 of 3,000 letters of the last four weeks were reported (0.20%). Usual for you is hardly any; 0.10% and more is not.',
    );
  });
  it('is any number above the line at which providers act, however usual, and none that is too few to say', () => {
    const [often] = warningsOf(watched([provider('a', { complained: 2 }, { complained: 2 })]));
    expect(often).toMatchObject({ kind: 'complaints', heading: 'Many readers report letters as junk' });
    expect(kinds(watched([provider('a', {}, { complained: 0 }), provider('b', {}, {})]))).toEqual([]);
  });

  it('is a provider that turns letters away as it did not before, and not one that always did', () => {
    expect(kinds(watched([provider('a', {}, { refused: 60 }, 240), provider('b', {}, {})]))).toEqual(['refuses a']);
    expect(kinds(watched([provider('a', { refused: 60 }, { refused: 60 }, 240), provider('b', {}, {})]))).toEqual([]);
    const [smaller] = warningsOf(watched([provider(ELSEWHERE, {}, { refused: 60 }, 240)]));
    expect(smaller!.heading).toBe('Smaller providers do not take letters as they used to');
    // Of one of which there is no habit yet, it is not said to have had another.
    const young = provider('a', {}, { refused: 60 }, 240);
    const [first] = warningsOf(watched([{ ...young, weeks: young.weeks.slice(-4) }]));
    expect(first!.heading).toBe('a turns letters away');
  });

  it('is a rate of confirmations that fell, and not one that fell by little', () => {
    const past = Array.from({ length: 12 }, () => ({ part: 80, whole: 100 }));
    expect(kinds(watched([], { confirmed: { past, latest: { part: 50, whole: 100 } } }))).toEqual(['few confirm']);
    const much = Array.from({ length: 12 }, () => ({ part: 8_000, whole: 10_000 }));
    expect(kinds(watched([], { confirmed: { past: much, latest: { part: 7_400, whole: 10_000 } } }))).toEqual([]);
    expect(kinds(watched([], { confirmed: { past, latest: { part: 0, whole: 10 } } }))).toEqual([]);
  });

  it('is growth that stopped, and not where few ever come', () => {
    const past = Array.from({ length: 12 }, (_, n) => 40 + (n % 3));
    const [warning] = warningsOf(watched([], { joined: { past, latest: 0 } }));
    expect(warning).toMatchObject({ kind: 'few join', heading: 'Nobody joined in the two weeks to yesterday' });
    expect(kinds(watched([], { joined: { past, latest: 12 } }))).toEqual(['few join']);
    expect(kinds(watched([], { joined: { past, latest: 30 } }))).toEqual([]);
    expect(kinds(watched([], { joined: { past: Array.from({ length: 12 }, (_, n) => n % 3), latest: 0 } }))).toEqual([]);
  });
});

describe('a week', () => {
  const WEEK: Week = {
    from: '2026-11-16',
    to: '2026-11-22',
    reading: 1_200,
    now: { joined: 45, left: 12 },
    before: { joined: 40, left: 9 },
    signedUp: 60,
    sources: [
      { name: 'direct', asked: 31 },
      { name: 'reefboard.example', asked: 20 },
    ],
    letters: [
      {
        subject: 'Tides',
        recipients: 1_180,
        delivered: 1_170,
        people: 420,
        machines: 300,
        hidden: 300,
        clicked: 60,
        counted: { opens: true, clicks: true },
      },
    ],
    moreLetters: 0,
    troubled: [{ name: 'kestrel.example', state: 'Puts letters into junk' }],
    unusual: ['Far fewer people than usual join'],
    goal: { readers: 5_000, day: '2027-03-03', reached: false },
    ahead: [{ subject: 'Salt', day: '2026-11-25' }],
  };
  it('is told in the figures of the screens', () => {
    const { heading, paragraphs } = weekWords(WEEK);
    expect(heading).toBe('The week to 22 Nov: 45 joined, 12 left');
    expect(paragraphs).toEqual([
      '1,200 people read now. From Monday, 16 Nov, to Sunday, 22 Nov, 45 joined and 12 left; the week before it was 40 and 9.',
      '60 people signed up by a form: directly (31), by way of reefboard.example (20) and otherwise (9).',
      '“Tides”: 1,170 of 1,180 delivered (99.2%), read by about 565 (420 to 720), 60 followed a link.',
      'Want a look under Delivery: kestrel.example (puts letters into junk).',
      'Out of the usual: Far fewer people than usual join.',
      'If it goes on as lately, the goal of 5,000 readers is met about 3 Mar.',
      'In the coming days: “Salt” on 25 Nov.',
    ]);
  });
  it('says nothing of what is not counted, and that nothing left', () => {
    const { heading, paragraphs } = weekWords({
      ...WEEK,
      now: { joined: 1, left: 2 },
      letters: [{ ...WEEK.letters[0]!, counted: { opens: false, clicks: false } }],
      moreLetters: 3,
      goal: { readers: 1_000, day: null, reached: true },
    });
    expect(heading).toBe('The week to 22 Nov: 1 joined, 2 left');
    expect(paragraphs[2]).toBe('“Tides”: 1,170 of 1,180 delivered (99.2%).');
    expect(paragraphs[3]).toBe('3 more letters left.');
    expect(paragraphs).toContain('The goal of 1,000 readers is met.');
    expect(weekWords({ ...WEEK, letters: [] }).paragraphs).toContain('No letter left.');
  });
  it('is not told where there is nothing to tell', () => {
    const none = { ...WEEK, reading: 0, now: { joined: 0, left: 0 }, signedUp: 0, letters: [] };
    expect(isEmptyWeek(none)).toBe(true);
    expect(isEmptyWeek({ ...none, now: { joined: 0, left: 1 } })).toBe(false);
  });
});
