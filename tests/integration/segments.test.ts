import fc from 'fast-check';
import { sql } from 'kysely';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import type { Answer } from '@/core/forms/fields';
import { CAME_BY, type Condition, expand, type FieldTest, folded, holds, REMEMBERED, STANDINGS } from '@/core/readers/condition';
import { conditionOf, readView } from '@/core/readers/view';
import { degreeOf } from '@/core/readers/warmth';
import { type Audience, fateOf, isIn, OMISSIONS, type Part } from '@/core/sending/audience';
import { writeMarks } from '@/server/delivery/marks';
import { keepAnswers } from '@/server/forms/fields';
import { newId } from '@/server/ids';
import { recount } from '@/server/jobs/tick';
import { conditionSql, factsOf, knownOf, momentOf } from '@/server/readers/conditions';
import { keepSegment, measureSegments, removeSegment, segmentsOf } from '@/server/readers/segments';
import { facetsOf, howMany, howManySoon, tablePage } from '@/server/readers/table';
import { warmReaders } from '@/server/readers/warming';
import { audienceSql, readyAudience } from '@/server/sending/audience';
import { reachOf, reachSoon, willGet } from '@/server/sending/reach';
import { startLetter } from '@/server/sending/start';
import { DAY, TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
beforeEach(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
});
afterEach(() => world.close());

const fitting = (condition: Condition) => howMany(world.ctx, newsletter, { find: '', condition });

const WORDS = [
  'Zoë',
  'zoe',
  'ZOË',
  'İlker',
  'ΟΔΟΣ',
  '50 % off',
  'a_b',
  'Straße',
  '',
  '2026-11-30',
  '2026-11-24T08:00',
  'blue',
  'red',
];
const NAMES = [...WORDS, null];

/** People of every kind: where they stand, how they came, what they said and read, all of it by chance from a seed. */
async function somebody(count: number) {
  const { db } = world.ctx;
  const at = world.clock.now();
  const pick = <T>(all: readonly T[], n: number, k: number): T => all[(n * 7 + k * 13 + ((n * n) % 11)) % all.length]!;
  const lists = [await world.list(newsletter), newId(), newId()];
  for (const [n, id] of lists.slice(1).entries())
    await db
      .insertInto('lists')
      .values({ id, newsletter_id: newsletter.id, name: `L${n}`, public_name: `L${n}`, created_at: at })
      .execute();
  const form = await world.newForm(newsletter);
  const kinds = ['text', 'number', 'date', 'yes/no', 'several choices'] as const;
  const fields = kinds.map((kind) => ({ id: newId(), key: kind.replace(/\W/g, '_'), kind }));
  for (const field of fields)
    await db
      .insertInto('fields')
      .values({ ...field, newsletter_id: newsletter.id, label: field.kind, options: '[]', created_at: at })
      .execute();
  const letters = [newId(), newId()];
  for (const id of letters)
    await db
      .insertInto('letters')
      .values({
        id,
        newsletter_id: newsletter.id,
        kind: 'post',
        audience: JSON.stringify({ to: [{ kind: 'list', id: lists[0] }], without: [] }),
        subject: 'S',
        // Of the second nobody's openings were counted.
        counts_opens: id === letters[0],
        preview_line: '',
        state: 'sent',
        state_at: at,
        due_at: at,
        sent_on: '2026-11-20',
        created_at: at,
      })
      .execute();
  await sql`select ensure_month('2026-11-20'::date)`.execute(db);
  const ids = Array.from({ length: count }, () => newId());
  for (const [n, id] of ids.entries()) {
    const name = pick(NAMES, n, 1);
    await db
      .insertInto('readers')
      .values({
        id,
        newsletter_id: newsletter.id,
        address: `r${n}@${pick(['heronmail.example', 'postbird.example'], n, 2)}`,
        address_key: `r${n}`,
        first_name: name,
        name_key: name === null ? null : folded(name),
        created_at: new Date(at.getTime() - (n % 60) * DAY),
        last_sent_at: n % 3 ? new Date(at.getTime() - (n % 40) * DAY) : null,
        last_read_at: n % 4 ? new Date(at.getTime() - (n % 50) * DAY) : null,
        last_clicked_at: n % 7 ? null : at,
        letters_got: n % 70,
        recent_read: String(BigInt.asIntN(64, BigInt(n * n * 2_654_435_761) * 0x9e37_79b9n)),
        recent_clicked: String(n % 5 ? 0 : n),
        recent_hidden: String(n % 3 ? 0 : n),
        text_alone: n % 9 === 0,
        warmth: n % 6 ? n % 101 : -1,
        zone: pick(['Europe/Lisbon', null, 'Asia/Tokyo'], n, 3),
        source_name: pick(['direct', 'reefboard'], n, 4),
        source_placement: pick(['panel', null], n, 5),
        source_page: pick(['https://blog.example/a?x=1', 'https://blog.example/b', null], n, 6),
        source_language: pick(['en', 'pt-PT', null], n, 7),
        source_form_id: n % 3 ? form.id : null,
        last_touch: pick([JSON.stringify({ campaign: 'autumn', medium: 'mail' }), null], n, 8),
        address_state: pick(['fine', 'fine', 'fine', 'suppressed', 'unreachable'] as const, n, 9),
      })
      .execute();
    for (const [k, list] of lists.entries())
      if ((n + k) % 3 !== 0)
        await db
          .insertInto('memberships')
          .values({
            reader_id: id,
            list_id: list,
            newsletter_id: newsletter.id,
            state: pick(['reading', 'reading', 'waiting', 'left'] as const, n, k),
            since: at,
            joined_at: at,
          })
          .execute();
    for (const tag of ['keen', 'new'].filter((_, k) => (n + k) % 4 === 0))
      await db.insertInto('reader_tags').values({ reader_id: id, newsletter_id: newsletter.id, tag, at }).execute();
    const answers: Record<string, Answer> = {};
    if (n % 2) answers.text = pick(WORDS, n, 10);
    if (n % 3) answers.number = (n % 9) - 4 + 0.5 * (n % 2);
    if (n % 4) answers.date = pick(['2026-11-24', '2026-12-01', '2026-10-31', '2026-11-30T23:59'], n, 11);
    if (n % 5) answers.yes_no = n % 2 === 0;
    if (n % 6) answers.several_choices = [[], ['blue'], ['blue', 'red'], ['50 % off']][n % 4]!;
    await keepAnswers(world.ctx, db, [{ newsletterId: newsletter.id, readerId: id, answers }]);
    if (n % 2 === 0)
      await db
        .insertInto('deliveries')
        .values({
          id: String(1000 + n),
          sent_on: '2026-11-20',
          newsletter_id: newsletter.id,
          letter_id: letters[n % 4 === 0 ? 0 : 1]!,
          reader_id: id,
          address: 'a',
          domain_id: 1,
          due_at: at,
          state: n % 8 ? 'delivered' : 'bounced',
          opened_at: n % 6 ? null : at,
          clicked_at: n % 12 ? null : at,
          opened_by_machine_at: n % 10 ? null : at,
        })
        .execute();
    if (n % 12 === 0)
      await db
        .insertInto('events')
        .values({
          day: '2026-11-20',
          at,
          newsletter_id: newsletter.id,
          letter_id: letters[0]!,
          delivery_id: String(1000 + n),
          reader_id: id,
          kind: 'click',
          link_position: n % 3,
        })
        .execute();
  }
  const test: fc.Arbitrary<FieldTest> = fc.oneof(
    fc.constant<FieldTest>({ is: 'answered' }),
    fc.record({
      is: fc.constant('text' as const),
      how: fc.constantFrom('is' as const, 'contains' as const, 'begins with' as const),
      text: fc.constantFrom(...WORDS.filter(Boolean), 'o', '%', '\\', 'x'.repeat(150)),
    }),
    fc.record({ is: fc.constant('number' as const), from: fc.integer({ min: -5, max: 5 }) }),
    fc.record({
      is: fc.constant('number' as const),
      from: fc.integer({ min: -5, max: 0 }),
      until: fc.integer({ min: 0, max: 5 }),
    }),
    fc.record({
      is: fc.constant('day' as const),
      from: fc.constantFrom('2026-11-24', '2026-12-01'),
      until: fc.constantFrom('2026-11-30', '2026-12-24'),
    }),
    fc.record({ is: fc.constant('days' as const), back: fc.integer({ min: 0, max: 30 }), ahead: fc.integer({ min: 0, max: 8 }) }),
    fc.record({ is: fc.constant('yes' as const), value: fc.boolean() }),
    fc.record({
      is: fc.constant('one of' as const),
      options: fc.uniqueArray(fc.constantFrom('blue', 'red', '50 % off', 'Zoë'), { minLength: 1 }),
    }),
  );
  const days = fc.integer({ min: 1, max: 60 });
  const many = fc.integer({ min: 0, max: 12 });
  const leaf: fc.Arbitrary<Condition> = fc.oneof(
    fc.record({ kind: fc.constant('standing' as const), is: fc.uniqueArray(fc.constantFrom(...STANDINGS), { minLength: 1 }) }),
    fc.record({
      kind: fc.constant('list' as const),
      id: fc.constantFrom(...lists),
      state: fc.constantFrom('reading' as const, 'waiting' as const, 'left' as const),
    }),
    fc.record({ kind: fc.constant('tag' as const), tag: fc.constantFrom('keen', 'new') }),
    fc.record({
      kind: fc.constant('came by' as const),
      what: fc.constantFrom(...CAME_BY.filter((what) => what !== 'form')),
      is: fc.constantFrom('direct', 'reefboard', 'panel', 'autumn', 'mail', 'blog.example/a'),
    }),
    fc.constant<Condition>({ kind: 'came by', what: 'form', is: form.id }),
    fc.record({
      kind: fc.constant('came' as const),
      from: days.map((back) => new Date(at.getTime() - back * DAY).toISOString()),
    }),
    fc.record({
      kind: fc.constantFrom('came within' as const, 'sent within' as const, 'read within' as const, 'clicked within' as const),
      days,
    }),
    fc.record({ kind: fc.constant('got' as const), least: many }),
    fc.record({
      kind: fc.constant('of the last' as const),
      last: fc.integer({ min: 1, max: REMEMBERED }),
      what: fc.constantFrom('read' as const, 'clicked' as const),
      most: many,
    }),
    fc.record({
      kind: fc.constant('of the last' as const),
      last: fc.integer({ min: 1, max: REMEMBERED }),
      what: fc.constantFrom('read' as const, 'clicked' as const),
      least: many,
    }),
    fc.record({
      kind: fc.constant('letter' as const),
      id: fc.constantFrom(...letters),
      what: fc.constantFrom('got' as const, 'read' as const, 'clicked' as const, 'unread' as const),
    }),
    fc.record({
      kind: fc.constant('letter' as const),
      id: fc.constantFrom(...letters),
      what: fc.constant('clicked' as const),
      link: fc.integer({ min: 0, max: 3 }),
    }),
    fc.record({ kind: fc.constant('warmth' as const), from: many, until: fc.integer({ min: 12, max: 100 }) }),
    fc.constant<Condition>({ kind: 'warmth unknown' }),
    fc.record({
      kind: fc.constant('field' as const),
      id: fc.constantFrom('first_name', ...fields.map((field) => field.id)),
      test,
    }),
    fc.constantFrom<Condition>(
      { kind: 'language', is: 'pt' },
      { kind: 'zone', is: 'Asia/Tokyo' },
      { kind: 'domain', is: 'postbird.example' },
      { kind: 'domain', is: 'nowhere.example' },
    ),
  );
  const { tree } = fc.letrec<{ tree: Condition }>((tie) => ({
    tree: fc.oneof(
      { maxDepth: 3 },
      leaf,
      fc.record({
        kind: fc.constantFrom('all' as const, 'any' as const, 'none' as const),
        of: fc.array(tie('tree'), { maxLength: 3 }),
      }),
    ),
  }));
  return { ids, lists, letters, form, fields, tree, leaf };
}

describe('a condition in SQL', () => {
  it('is the one that is judged in memory, whatever the tree and the reader', async () => {
    const { ids, letters, tree, leaf } = await somebody(120);
    const moment = momentOf(world.ctx, newsletter);
    const known = await knownOf(
      world.ctx.db,
      newsletter.id,
      letters.map((id): Condition => ({ kind: 'letter', id, what: 'got' })),
    );
    const facts = await factsOf(world.ctx.db, ids, known);
    expect(facts.size).toBe(ids.length);
    let someNotAll = 0;
    const same = async (condition: Condition) => {
      const { rows } = await sql<{ id: string }>`
        select r.id from readers r where r.newsletter_id = ${newsletter.id} and ${conditionSql(condition, moment, known)} order by 1`.execute(
        world.ctx.db,
      );
      const wanted = [...facts.values()].filter((reader) => holds(condition, reader, moment)).map((reader) => reader.id);
      expect(rows.map((row) => row.id)).toEqual(wanted.sort());
      if (wanted.length > 0 && wanted.length < ids.length) someNotAll += 1;
    };
    await fc.assert(fc.asyncProperty(leaf, same), { numRuns: 300 });
    await fc.assert(fc.asyncProperty(tree, same), { numRuns: 200 });
    // Else the property would say little.
    expect(someNotAll).toBeGreaterThan(200);
  });

  it('makes an audience, which holds each once and nobody who may not be written to', async () => {
    const { ids, lists, tree } = await somebody(60);
    const saved: { id: string }[] = [];
    for (const name of ['One', 'Two'])
      saved.push(await keepSegment(world.ctx, newsletter, null, { name, condition: { kind: 'tag', tag: 'keen' } }));
    const part: fc.Arbitrary<Part> = fc.oneof(
      fc.constantFrom(...lists).map((id) => ({ kind: 'list' as const, id })),
      fc.constantFrom('keen', 'new').map((tag) => ({ kind: 'tag' as const, tag })),
      fc.array(fc.constantFrom(...ids), { minLength: 1, maxLength: 5 }).map((some) => ({ kind: 'readers' as const, ids: some })),
      fc.constantFrom(saved[0]!.id, saved[1]!.id, newId()).map((id) => ({ kind: 'segment' as const, id })),
      tree.map((condition) => ({ kind: 'those' as const, condition })),
    );
    await fc.assert(
      fc.asyncProperty(
        fc.array(part, { minLength: 1, maxLength: 4 }),
        fc.array(part, { maxLength: 3 }),
        tree,
        async (to, without, condition) => {
          await keepSegment(world.ctx, newsletter, saved[0]!.id, { name: 'One', condition });
          const audience: Audience = { to, without };
          const ready = await readyAudience(world.ctx, world.ctx.db, newsletter, audience);
          const { rows } = await sql<{ id: string }>`
          select r.id from (${audienceSql(newsletter.id, ready)}) a (id) join readers r on r.id = a.id
          where r.newsletter_id = ${newsletter.id} and r.standing = 'reading' order by 1`.execute(world.ctx.db);
          const facts = await factsOf(world.ctx.db, ids, ready.known);
          const wanted = [...facts.values()]
            .filter((reader) => reader.standing === 'reading' && isIn(ready.audience, reader, ready.moment))
            .map((reader) => reader.id);
          expect(rows.map((row) => row.id)).toEqual(wanted.sort());
        },
      ),
      { numRuns: 60 },
    );
  });

  it('gives each one fate, the same before, in memory and at the start, and nobody two letters', async () => {
    const { ids, lists, tree } = await somebody(60);
    const { db, clock } = world.ctx;
    // Some asked for a pause, and some must not be written to.
    await sql`update readers set paused_until = ${new Date(clock.now().getTime() + DAY)} where id = any(${ids.filter((_, n) => n % 7 === 3)}::uuid[])`.execute(
      db,
    );
    const suppressed = ids.filter((_, n) => n % 11 === 5);
    await sql`insert into suppressions (newsletter_id, address_key, reason, at) select newsletter_id, address_key, 'by hand', ${clock.now()} from readers
      where id = any(${suppressed}::uuid[]) on conflict do nothing`.execute(db);
    await sql`update readers set address_state = 'suppressed' where id = any(${suppressed}::uuid[])`.execute(db);
    await sql`update memberships set state = 'left' where reader_id = any(${ids.filter((_, n) => n % 13 === 2)}::uuid[])`.execute(
      db,
    );
    const paused = new Set(
      (await sql<{ id: string }>`select id from readers where paused_until > ${clock.now()}`.execute(db)).rows.map(
        (row) => row.id,
      ),
    );
    const { senderId } = await world.sender(newsletter);
    const part: fc.Arbitrary<Part> = fc.oneof(
      fc.constantFrom(...lists).map((id) => ({ kind: 'list' as const, id })),
      fc.constantFrom('keen', 'new').map((tag) => ({ kind: 'tag' as const, tag })),
      fc.array(fc.constantFrom(...ids), { maxLength: 9 }).map((some) => ({ kind: 'readers' as const, ids: some })),
      tree.map((condition) => ({ kind: 'those' as const, condition })),
    );
    const met = new Set<string>();
    let starts = 0;
    let fixed = 0;
    await fc.assert(
      fc.asyncProperty(fc.array(part, { minLength: 1, maxLength: 4 }), fc.array(part, { maxLength: 3 }), async (to, without) => {
        const audience: Audience = { to, without };
        const ready = await readyAudience(world.ctx, db, newsletter, audience);
        const facts = await factsOf(db, ids, ready.known);
        const fates = new Map<string, string[]>();
        for (const reader of facts.values()) {
          const fate = fateOf(
            ready.audience,
            { ...reader, paused: paused.has(reader.id), suppressed: suppressed.includes(reader.id) },
            ready.moment,
          );
          if (fate) fates.set(fate, [...(fates.get(fate) ?? []), reader.id]);
          if (fate) met.add(fate);
        }
        const many = (fate: string) => fates.get(fate)?.length ?? 0;
        const reach = await reachOf(world.ctx, newsletter, audience);
        expect({ will: reach.will, ...reach.out }).toEqual(
          Object.fromEntries(['will', ...OMISSIONS].map((fate) => [fate, many(fate)])),
        );
        expect(await willGet(world.ctx, db, newsletter, audience)).toBe(many('will'));
        expect(await reachSoon(world.ctx, newsletter, audience, undefined, 10_000)).toEqual({ will: many('will'), exact: true });
        starts += 1;
        if (starts % 4) return;
        const letter = await world.letter(newsletter, senderId, { audience });
        await startLetter(world.ctx, letter);
        const { rows } = await sql<{
          reader_id: string;
        }>`select reader_id from deliveries where letter_id = ${letter} order by 1`.execute(db);
        // What names something that is gone is held.
        expect(rows.map((row) => row.reader_id)).toEqual(ready.missing.length ? [] : (fates.get('will') ?? []).sort());
        fixed += ready.missing.length ? 0 : rows.length;
        await sql`delete from route_jobs where letter_id = ${letter}`.execute(db);
      }),
      { numRuns: 80 },
    );
    // Else the property would say little.
    expect(fixed).toBeGreaterThan(0);
    expect([...met].sort()).toEqual(['excluded', 'left', 'paused', 'suppressed', 'waiting', 'will']);
  });
});

describe('a reader’s last letters', () => {
  it('are remembered one by one, whatever is read late, in whatever order, and by whom', async () => {
    const { db } = world.ctx;
    const { senderId } = await world.sender(newsletter);
    const [id] = await world.readers(newsletter, ['ada@heronmail.example']);
    const got: { id: string; sent_on: string }[] = [];
    const next = async () => {
      const letter = await world.letter(newsletter, senderId);
      await startLetter(world.ctx, letter);
      await world.work();
      got.push(
        await db.selectFrom('deliveries').select(['id', 'sent_on']).where('letter_id', '=', letter).executeTakeFirstOrThrow(),
      );
      world.clock.advance(DAY);
    };
    const mark = (n: number, kind: 'open' | 'click', agent = 'Mozilla/5.0 (X11; Linux x86_64) A browser') =>
      writeMarks(world.ctx, [
        {
          ref: { sentOn: got[n]!.sent_on, id: BigInt(got[n]!.id) as never },
          kind,
          at: world.clock.now(),
          agent,
          method: 'GET',
          link: kind === 'click' ? 0 : null,
        },
      ]);
    const bits = async () => {
      const row = await db
        .selectFrom('readers')
        .select(['letters_got', 'recent_read', 'recent_clicked', 'recent_hidden'])
        .where('id', '=', id!)
        .executeTakeFirstOrThrow();
      return [
        row.letters_got,
        ...[row.recent_read, row.recent_clicked, row.recent_hidden].map((value) => BigInt(value).toString(2).padStart(3, '0')),
      ];
    };
    await next();
    await next();
    await mark(0, 'open');
    await next();
    expect(await bits()).toEqual([3, '100', '000', '000']);
    await mark(2, 'click');
    await mark(2, 'click');
    await mark(1, 'open', '');
    expect(await bits()).toEqual([3, '101', '001', '010']);
    const { rows } = await sql<{ differing: number }>`select recount_recent(${newsletter.id}) as differing`.execute(db);
    expect(rows[0]!.differing).toBe(0);
    expect(await fitting({ kind: 'of the last', last: 3, what: 'read', least: 2, most: 2 })).toBe(1);
    expect(await fitting({ kind: 'of the last', last: 4, what: 'read', most: 4 })).toBe(0);
  });
});

describe('a letter that is read before its delivery is written', () => {
  it('is among those that were read: a quick person, a scanner, a slow disk', async () => {
    const { db } = world.ctx;
    const { senderId } = await world.sender(newsletter);
    const [id] = await world.readers(newsletter, ['ada@heronmail.example']);
    const letter = await world.letter(newsletter, senderId);
    await startLetter(world.ctx, letter);
    const copy = await db
      .selectFrom('deliveries')
      .select(['id', 'sent_on'])
      .where('letter_id', '=', letter)
      .executeTakeFirstOrThrow();
    await writeMarks(world.ctx, [
      {
        ref: { sentOn: copy.sent_on, id: BigInt(copy.id) as never },
        kind: 'click',
        at: world.clock.now(),
        agent: 'Mozilla/5.0 (X11; Linux x86_64) A browser',
        method: 'GET',
        link: 0,
      },
    ]);
    await world.work();
    const row = await db
      .selectFrom('readers')
      .select(['letters_got', 'recent_read', 'recent_clicked'])
      .where('id', '=', id!)
      .executeTakeFirstOrThrow();
    expect(row).toEqual({ letters_got: 1, recent_read: '1', recent_clicked: '1' });
    const { rows } = await sql<{ differing: number }>`select recount_recent(${newsletter.id}) as differing`.execute(db);
    expect(rows[0]!.differing).toBe(0);
  });
});

describe('warmth', () => {
  it('is worked out of those to whom something happened since, each once, however many there are', async () => {
    const { db } = world.ctx;
    const ids = await world.readers(
      newsletter,
      Array.from({ length: 12 }, (_, n) => `r${n}@heronmail.example`),
    );
    const now = world.clock.now();
    await sql`update readers set letters_got = 12, recent_read = 4095, last_sent_at = ${now}, last_read_at = ${now} where id = any(${ids.slice(0, 10)}::uuid[])`.execute(
      db,
    );
    await sql`update readers set letters_got = 1, last_sent_at = ${now} where id = ${ids[10]}`.execute(db);
    // Some of one moment, some apart.
    await sql`update readers set created_at = created_at - interval '1 microsecond' where id = any(${ids.slice(0, 5)}::uuid[])`.execute(
      db,
    );
    world.clock.advance(60_000);
    expect(await warmReaders(world.ctx, newsletter.id, 3)).toBe(11);
    const warmth = async () =>
      (await sql<{ warmth: number; n: number }>`select warmth, count(*)::int as n from readers group by 1 order by 1`.execute(db))
        .rows;
    expect(await warmth()).toEqual([
      { warmth: -1, n: 2 },
      { warmth: 80, n: 10 },
    ]);
    expect(await warmReaders(world.ctx, newsletter.id)).toBe(0);
    expect(await fitting({ kind: 'warmth', from: 60, until: 100 })).toBe(10);
    // Beside each filter stands how many it shows.
    const beside = async () => (await facetsOf(world.ctx, newsletter)).warmth;
    expect(await beside()).toEqual({ warm: 10, mild: 0, cool: 0, cold: 0, unknown: 2 });
    await sql`update readers set warmth = case when id = ${ids[0]} then 59 when id = ${ids[1]} then 30 when id = ${ids[2]} then 29 when id = ${ids[3]} then 9 else warmth end`.execute(
      db,
    );
    await sql`update memberships set state = 'left' where reader_id = ${ids[4]}`.execute(db);
    await recount(world.ctx, newsletter);
    const degrees = await beside();
    expect(degrees).toEqual({ warm: 5, mild: 2, cool: 1, cold: 1, unknown: 2 });
    for (const [warmth, people] of Object.entries(degrees))
      expect([warmth, await fitting(conditionOf(readView({ warmth })))]).toEqual([warmth, people]);
    // The database calls every warmth as the core does.
    const { rows: called } = await sql<{
      warmth: number;
      word: string;
    }>`select n as warmth, degree(n::smallint) as word from generate_series(-1, 100) n`.execute(db);
    for (const { warmth, word } of called)
      expect([warmth, word]).toEqual([warmth, warmth < 0 ? 'unknown' : degreeOf(warmth).word]);
    // Half a year of silence, and nobody knows any more.
    world.clock.advance(181 * DAY);
    expect(await warmReaders(world.ctx, newsletter.id)).toBe(10);
    expect(await warmth()).toEqual([{ warmth: -1, n: 12 }]);
    expect(await warmReaders(world.ctx, newsletter.id)).toBe(0);
  });
});

describe('a count while somebody types', () => {
  it('is exact where there is time, else about so many of all; never a wrong one said to be exact', async () => {
    await sql`insert into readers (id, newsletter_id, address, address_key, created_at) select gen_random_uuid(), ${newsletter.id}, 'p' || g || '@heronmail.example', 'p' || g || '@heronmail.example', now() from generate_series(1, 30000) g`.execute(
      world.ctx.db,
    );
    await sql`insert into memberships (reader_id, list_id, newsletter_id, state, since) select id, ${await world.list(newsletter)}, ${newsletter.id}, 'reading', now() from readers`.execute(
      world.ctx.db,
    );
    await sql`analyze readers`.execute(world.ctx.db);
    const condition: Condition = { kind: 'standing', is: ['reading'] };
    expect(await howManySoon(world.ctx, newsletter, { find: '', condition }, 20_000)).toEqual({ people: 30_000, exact: true });
    const slow: Condition = { kind: 'all', of: [condition, { kind: 'none', of: [{ kind: 'tag', tag: 'keen' }] }] };
    const soon = await howManySoon(world.ctx, newsletter, { find: '', condition: slow }, 1);
    if (!soon.exact) expect([0, 30_000]).toContain(soon.people);
    else expect(soon.people).toBe(30_000);
    // A fault of the question itself is no matter of time.
    await expect(howManySoon(world.ctx, newsletter, { find: '\0', condition }, 20_000)).rejects.toThrow();
  });
});

describe('a saved segment', () => {
  const keen: Condition = { kind: 'tag', tag: 'keen' };
  const tag = async (ids: string[]) => {
    for (const id of ids)
      await world.ctx.db
        .insertInto('reader_tags')
        .values({ reader_id: id, newsletter_id: newsletter.id, tag: 'keen', at: world.clock.now() })
        .execute();
  };
  it('counts at once, and keeps its size by day', async () => {
    const ids = await world.readers(
      newsletter,
      Array.from({ length: 8 }, (_, n) => `r${n}@heronmail.example`),
    );
    await tag(ids.slice(0, 7));
    const { id } = await keepSegment(world.ctx, newsletter, null, { name: ' Keen ', condition: keen });
    expect(await fitting(keen)).toBe(7);
    await measureSegments(world.ctx, newsletter.id);
    world.clock.advance(DAY);
    await world.ctx.db.deleteFrom('reader_tags').where('reader_id', '=', ids[0]!).execute();
    await measureSegments(world.ctx, newsletter.id);
    await measureSegments(world.ctx, newsletter.id);
    expect(await segmentsOf(world.ctx, newsletter)).toMatchObject([
      { id, name: 'Keen', people: 6, sizes: [{ people: 7 }, { people: 6 }], missing: [], usedBy: [] },
    ]);
  });
  it('has a name of its own, is no part of itself, and is not let go of while something needs it', async () => {
    await tag(await world.readers(newsletter, ['a@heronmail.example']));
    const one = await keepSegment(world.ctx, newsletter, null, { name: 'Keen', condition: keen });
    await expect(keepSegment(world.ctx, newsletter, null, { name: 'keen', condition: keen })).rejects.toMatchObject({
      code: 'conflict',
    });
    await expect(keepSegment(world.ctx, newsletter, null, { name: '', condition: keen })).rejects.toMatchObject({
      code: 'invalid',
    });
    await expect(keepSegment(world.ctx, newsletter, newId(), { name: 'X', condition: keen })).rejects.toMatchObject({
      code: 'not-found',
    });
    const two = await keepSegment(world.ctx, newsletter, null, {
      name: 'Two',
      condition: { kind: 'none', of: [{ kind: 'segment', id: one.id }] },
    });
    await expect(
      keepSegment(world.ctx, newsletter, one.id, {
        name: 'Keen',
        condition: { kind: 'any', of: [keen, { kind: 'segment', id: two.id }] },
      }),
    ).rejects.toMatchObject({
      sentence: expect.stringContaining('part of itself'),
    });
    await expect(removeSegment(world.ctx, newsletter, one.id)).rejects.toMatchObject({
      sentence: expect.stringContaining('the segment “Two”'),
    });
    const stranger = await world.newsletter('A stranger');
    await expect(removeSegment(world.ctx, stranger, one.id)).rejects.toMatchObject({ code: 'not-found' });
    await removeSegment(world.ctx, newsletter, two.id);
    await removeSegment(world.ctx, newsletter, one.id);
    expect(await segmentsOf(world.ctx, newsletter)).toEqual([]);
  });
  it('that names what was deleted says so and holds nobody, and a letter for it is held, on either side of its audience', async () => {
    const ids = await world.readers(newsletter, ['a@heronmail.example', 'b@heronmail.example']);
    await tag(ids.slice(0, 1));
    const { senderId } = await world.sender(newsletter);
    const { id } = await keepSegment(world.ctx, newsletter, null, { name: 'Not keen', condition: { kind: 'none', of: [keen] } });
    const letter = await world.letter(newsletter, senderId);
    const audience = { to: [{ kind: 'list', id: await world.list(newsletter) }], without: [{ kind: 'segment', id }] };
    await world.ctx.db
      .updateTable('letters')
      .set({ audience: JSON.stringify(audience) })
      .where('id', '=', letter)
      .execute();
    await expect(removeSegment(world.ctx, newsletter, id)).rejects.toMatchObject({
      sentence: expect.stringContaining('the letter “'),
    });
    await sql`delete from reader_tags where newsletter_id = ${newsletter.id}`.execute(world.ctx.db);
    await sql`delete from tags where newsletter_id = ${newsletter.id}`.execute(world.ctx.db);
    expect((await segmentsOf(world.ctx, newsletter))[0]!.missing).toEqual(['tag']);
    expect(await fitting({ kind: 'segment', id })).toBe(0);
    expect(await tablePage(world.ctx, newsletter, { find: '', condition: { kind: 'segment', id } }, 'newest')).toMatchObject({
      rows: [],
      missing: ['tag'],
    });
    expect(expand({ kind: 'segment', id }, await knownOf(world.ctx.db, newsletter.id, [])).missing).toEqual(['tag']);
    await startLetter(world.ctx, letter);
    const row = await world.ctx.db
      .selectFrom('letters')
      .select(['state', 'cause'])
      .where('id', '=', letter)
      .executeTakeFirstOrThrow();
    expect(row).toEqual({ state: 'held', cause: expect.stringContaining('names a tag that is no longer there') });
  });
});
