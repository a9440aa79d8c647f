import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { afterDelivery, BOUNCING_AT, withSign } from '../delivery/evidence';
import { afterAct, hasBegun, type LetterAct, type LetterState, statesFor } from './letter-state';
import { isAllowedHost, readStsPolicy, stsId } from './sts';
import { dealTurns } from './turns';
import {
  afterFailure,
  afterFullLine,
  afterGood,
  afterQuietMinute,
  afterRefusedLine,
  afterSlowDown,
  MOST_LANES,
  type Way,
} from './way';

const WAY: Way = {
  lanes: 5,
  lanesMost: null,
  failedRounds: 0,
  failingSince: null,
  pausedUntil: null,
  pausedFor: null,
  mailsALine: null,
  perMinute: null,
};
const NOW = new Date('2026-11-24T09:00:00Z');
const later = (minutes: number) => new Date(NOW.getTime() + minutes * 60_000);

describe('a way out', () => {
  it('opens one lane more after a full round of good mails, up to the most', () => {
    let way = WAY;
    for (let n = 0; n < 5; n += 1) way = afterGood(way, 1);
    expect(Math.floor(way.lanes)).toBe(5);
    way = afterGood(way, 1);
    expect(Math.floor(way.lanes)).toBe(6);
    expect(afterGood(way, 100_000).lanes).toBe(MOST_LANES);
  });
  it('loses a part of a lane once, at the beginning of a run of failures, and rests after a full round of them', () => {
    const first = afterFailure(WAY, 'refused', NOW);
    expect(first.lanes).toBeCloseTo(4.8);
    expect(first.pausedUntil).toBeNull();
    let way = first;
    for (let n = 0; n < 4; n += 1) way = afterFailure(way, 'refused', NOW);
    expect(way).toMatchObject({ lanes: 1, pausedUntil: later(1), pausedFor: 'refused', failingSince: NOW });
    // What was under way when it was laid to rest says nothing new.
    expect(afterFailure(way, 'refused', NOW)).toBe(way);
  });
  it('is tried with one lane after waits that double up to half an hour, and is well with the first mail that goes', () => {
    let way = WAY;
    for (let n = 0; n < 5; n += 1) way = afterFailure(way, 'x', NOW);
    const waits: number[] = [];
    let at = NOW;
    for (let n = 0; n < 7; n += 1) {
      at = way.pausedUntil!;
      way = afterFailure(way, 'x', at);
      waits.push((way.pausedUntil!.getTime() - at.getTime()) / 60_000);
    }
    expect(waits).toEqual([2, 4, 8, 16, 30, 30, 30]);
    expect(afterGood(way, 1)).toMatchObject({ failedRounds: 0, failingSince: null, pausedUntil: null, lanes: 2 });
  });
  it('learns how many lines it takes from a refusal, and probes slowly whether it takes more', () => {
    const way = afterRefusedLine({ ...WAY, lanes: 8.5 }, 4);
    expect(way).toMatchObject({ lanes: 4, lanesMost: 4, failingSince: null, pausedUntil: null });
    expect(Math.floor(afterGood(way, 100).lanes)).toBe(4);
    expect(Math.floor(afterGood(afterGood(way, 400), 40).lanes)).toBe(5);
  });
  it('learns how many mails a line takes, the fewest it ever took', () => {
    expect(afterFullLine(afterFullLine(WAY, 50), 20).mailsALine).toBe(20);
    expect(afterFullLine(afterFullLine(WAY, 20), 50).mailsALine).toBe(20);
    expect(afterGood(afterFullLine(WAY, 20), 400).mailsALine).toBe(21);
  });
  it('goes slower when it is asked to, and faster again', () => {
    let way = afterSlowDown(WAY, 100, 'too fast', NOW);
    expect(way).toMatchObject({ lanes: 2.5, perMinute: 70 });
    for (let n = 0; n < 10; n += 1) way = afterQuietMinute(way);
    expect(way.perMinute).toBeGreaterThan(150);
    for (let n = 0; n < 60; n += 1) way = afterQuietMinute(way);
    expect(way.perMinute).toBeNull();
    // One mailbox that puts us off says the same: while little goes, it only takes connections, until there are none to take.
    let put = WAY;
    for (let n = 0; n < 3; n += 1) put = afterSlowDown(put, 3, 'come again later', NOW);
    expect(put).toMatchObject({ lanes: 1, perMinute: null, pausedUntil: new Date(NOW.getTime() + 10_000) });
    expect(afterSlowDown(put, 3, 'come again later', NOW).perMinute).toBe(7);
  });
  it('always has a lane, whatever it meets', () => {
    const event = fc.oneof(
      fc.integer({ min: 1, max: 500 }).map((n) => (way: Way) => afterGood(way, n)),
      fc.integer({ min: 0, max: 10_000 }).map((minutes) => (way: Way) => afterFailure(way, 'x', later(minutes))),
      fc.integer({ min: 0, max: 30 }).map((open) => (way: Way) => afterRefusedLine(way, open)),
      fc.integer({ min: 0, max: 5_000 }).map((n) => (way: Way) => afterSlowDown(way, n, 'x', NOW)),
    );
    fc.assert(
      fc.property(fc.array(event, { maxLength: 60 }), (events) => {
        for (let way = WAY, n = 0; n < events.length; n += 1) {
          way = events[n]!(way);
          expect(way.lanes).toBeGreaterThanOrEqual(1);
          expect(way.lanes).toBeLessThanOrEqual(MOST_LANES);
          expect(Number.isFinite(way.lanes)).toBe(true);
        }
      }),
    );
  });
});

describe('turns on a route', () => {
  it('a letter to 50 does not wait for one to 500,000', () => {
    const left = new Map([
      ['big', 500_000],
      ['small', 50],
    ]);
    const waiting = [
      { letterId: 'big', newsletterId: 'a', turn: 20_000 },
      { letterId: 'small', newsletterId: 'b', turn: 20_000 },
    ];
    let sent = 0;
    while (left.get('small')! > 0) {
      for (const share of dealTurns(
        waiting.filter((one) => left.get(one.letterId)! > 0),
        40,
      )) {
        left.set(share.letterId, left.get(share.letterId)! - share.count);
        waiting.find((one) => one.letterId === share.letterId)!.turn = share.turn;
        sent += share.count;
      }
    }
    expect(sent).toBeLessThanOrEqual(120);
  });
  it('newsletters share alike, however many letters each has', () => {
    const waiting = [
      ...Array.from({ length: 9 }, (_, n) => ({ letterId: `a${n}`, newsletterId: 'a', turn: 0 })),
      { letterId: 'b0', newsletterId: 'b', turn: 0 },
    ];
    const shares = dealTurns(waiting, 3_600);
    const of = (newsletter: string) =>
      shares.filter((share) => share.letterId.startsWith(newsletter)).reduce((sum, share) => sum + share.count, 0);
    expect(of('b') / 3_600).toBeCloseTo(0.5, 1);
  });
  it('deals out exactly the room, and nobody is forgotten', () => {
    fc.assert(
      fc.property(
        fc.array(fc.record({ newsletterId: fc.constantFrom('a', 'b', 'c'), turn: fc.nat(1_000) }), {
          minLength: 1,
          maxLength: 12,
        }),
        fc.nat(2_000),
        (letters, room) => {
          const shares = dealTurns(
            letters.map((one, n) => ({ ...one, letterId: `l${n}` })),
            room,
          );
          expect(shares.reduce((sum, share) => sum + share.count, 0)).toBe(room);
          if (room >= 2_000 * 12 * 10) expect(shares).toHaveLength(letters.length);
        },
      ),
    );
    expect(dealTurns([], 10)).toEqual([]);
  });
});

describe('a letter’s states', () => {
  const STATES: LetterState[] = ['draft', 'scheduled', 'held', 'starting', 'sending', 'paused', 'stopped', 'sent'];
  const ACTS: LetterAct[] = [
    'schedule',
    'unschedule',
    'hold',
    'release',
    'start',
    'fix recipients',
    'pause',
    'resume',
    'stop',
    'finish',
  ];
  it('have these moves and no others', () => {
    const moves = ACTS.flatMap((act) =>
      STATES.flatMap((state) => (afterAct(state, act) ? [`${state} –${act}→ ${afterAct(state, act)}`] : [])),
    );
    expect(moves).toMatchInlineSnapshot(`
      [
        "draft –schedule→ scheduled",
        "scheduled –schedule→ scheduled",
        "held –schedule→ scheduled",
        "scheduled –unschedule→ draft",
        "held –unschedule→ draft",
        "scheduled –hold→ held",
        "held –hold→ held",
        "starting –hold→ held",
        "held –release→ scheduled",
        "scheduled –start→ starting",
        "held –start→ starting",
        "starting –fix recipients→ sending",
        "sending –pause→ paused",
        "paused –resume→ sending",
        "starting –stop→ stopped",
        "sending –stop→ stopped",
        "paused –stop→ stopped",
        "sending –finish→ sent",
      ]
    `);
  });
  it('end somewhere: what is sent or stopped stays so, and nothing that has begun becomes a draft again', () => {
    for (const act of ACTS) {
      expect(afterAct('sent', act)).toBeNull();
      expect(afterAct('stopped', act)).toBeNull();
      for (const state of STATES.filter(hasBegun)) expect(afterAct(state, act) ?? 'sent').not.toBe('draft');
      expect(statesFor(act).length).toBeGreaterThan(0);
    }
  });
});

describe('what speaks against a mailbox', () => {
  it('adds up over days, not within one, and fades with deliveries and time', () => {
    let evidence = { score: 0, at: null as Date | null };
    for (let n = 0; n < 20; n += 1) evidence = withSign(evidence, 1, later(n));
    expect(evidence.score).toBeCloseTo(1, 2);
    evidence = { score: 0, at: null };
    let days = 0;
    for (; evidence.score < BOUNCING_AT; days += 1) evidence = withSign(evidence, 1, later(days * 1_440 * 2));
    expect(days).toBe(5);
    const after = afterDelivery(evidence, later(days * 2_880));
    expect(after.score).toBeLessThan(BOUNCING_AT * 0.6);
    expect(afterDelivery(afterDelivery(afterDelivery(afterDelivery(after, NOW), NOW), NOW), NOW)).toEqual({ score: 0, at: null });
    expect(withSign({ score: 3, at: NOW }, 1, later(60 * 24 * 365)).score).toBeLessThan(1.01);
  });
});

describe('a domain’s policy (RFC 8461)', () => {
  it.each<[string, string[], string | null]>([
    ['the example of the RFC', ['v=STSv1; id=20160831085700Z;'], '20160831085700Z'],
    ['without the last semicolon', ['v=STSv1; id=1'], '1'],
    ['with an extension', ['v=STSv1; x=y; id=a1;'], 'a1'],
    ['beside other values', ['something else', 'v=STSv1;id=2;'], '2'],
    ['two of them are none', ['v=STSv1; id=1;', 'v=STSv1; id=2;'], null],
    ['no id', ['v=STSv1;'], null],
    ['an id that is too long', [`v=STSv1; id=${'a'.repeat(33)};`], null],
    ['another version', ['v=STSv2; id=1;'], null],
    ['none', [], null],
  ])('record: %s', (_, values, id) => expect(stsId(values)).toBe(id));
  const text = (more: string) => `version: STSv1\r\n${more}`;
  it.each<[string, string, object | null]>([
    [
      'the example of the RFC',
      text('mode: enforce\r\nmx: mail.example.com\r\nmx: *.example.net\r\nmx: backupmx.example.com\r\nmax_age: 604800\r\n'),
      { mode: 'enforce', mx: ['mail.example.com', '*.example.net', 'backupmx.example.com'], maxAgeSeconds: 604_800 },
    ],
    ['bare newlines', 'version: STSv1\nmode: testing\nmx: A.Example.\nmax_age: 1', { mode: 'testing', mx: ['a.example'] }],
    ['an unknown key', text('mode: enforce\nmx: a.example\nmax_age: 9\nx-new: 1'), { mode: 'enforce' }],
    ['a key twice counts the first time', text('mode: none\nmode: enforce\nmax_age: 9'), { mode: 'none' }],
    ['an age beyond a year', text('mode: none\nmax_age: 9999999999'), { maxAgeSeconds: 31_557_600 }],
    ['no version', 'mode: none\nmax_age: 9', null],
    ['no age', text('mode: none'), null],
    ['a negative age', text('mode: none\nmax_age: -9'), null],
    ['another mode', text('mode: maybe\nmax_age: 9'), null],
    [
      'hosts that are none',
      text('mode: enforce\nmx: a\u0000b.example\nmx: \u202ex\nmx: *.fine.example\nmax_age: 9'),
      { mx: ['*.fine.example'] },
    ],
    ['nothing but hosts that are none', text('mode: enforce\nmx: *\nmx: a b\nmax_age: 9'), null],
    ['no hosts where they matter', text('mode: enforce\nmax_age: 9'), null],
    ['a web page', '<!doctype html><p>version: STSv1', null],
    ['nothing', '', null],
  ])('file: %s', (_, file, policy) => {
    if (policy) expect(readStsPolicy(file)).toMatchObject(policy);
    else expect(readStsPolicy(file)).toBeNull();
  });
  it('never throws and never allows a host that no pattern names', () => {
    fc.assert(fc.property(fc.string({ maxLength: 400 }), (file) => void readStsPolicy(file)));
    fc.assert(fc.property(fc.domain(), (host) => !isAllowedHost(host, ['mx.inkset.test', '*.inkset.test'])));
  });
  it.each([
    ['mx.a.example', 'mx.a.example', true],
    ['MX.A.EXAMPLE.', 'mx.a.example', true],
    ['mx.a.example', '*.a.example', true],
    ['b.mx.a.example', '*.a.example', false],
    ['a.example', '*.a.example', false],
    ['mx.a.example.evil.test', '*.a.example', false],
    ['.a.example', '*.a.example', false],
  ])('%s under %s: %s', (host, pattern, allowed) => expect(isAllowedHost(host, [pattern])).toBe(allowed));
});
