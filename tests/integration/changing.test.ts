import { sql } from 'kysely';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import type { Answer, FieldKind } from '@/core/forms/fields';
import { merged } from '@/core/readers/merging';
import { ofList } from '@/core/sending/audience';
import { createForm, publicForm } from '@/server/forms/forms';
import { newId } from '@/server/ids';
import { recount } from '@/server/jobs/tick';
import { takeOffList } from '@/server/keeping/acts';
import { changeKind, kindChange, mergeLists, mergingOf } from '@/server/keeping/changing';
import { keepList, thingsOf } from '@/server/keeping/things';
import { keepSegment, segmentsOf } from '@/server/readers/segments';
import { TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
const WRITER = { name: 'Ottoline Vance' };
beforeEach(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
});
afterEach(() => world.close());
const db = () => world.ctx.db;

describe('one list that goes into another', () => {
  const STATES = ['reading', 'waiting', 'left', 'taken off', null] as const;
  /** Somebody for each pair of standings on both lists. */
  async function everyPair(from: string, into: string) {
    const pairs = STATES.flatMap((a) => STATES.map((b) => [a, b] as const)).filter(([a]) => a !== null);
    const ids = await world.readers(
      newsletter,
      pairs.map((_, n) => `p${n}@heronmail.example`),
    );
    await db().deleteFrom('memberships').where('newsletter_id', '=', newsletter.id).execute();
    const put = async (id: string, list: string, state: (typeof STATES)[number]) => {
      if (state === null) return;
      const at = world.clock.now();
      await db()
        .insertInto('memberships')
        .values({
          reader_id: id,
          list_id: list,
          newsletter_id: newsletter.id,
          state: state === 'taken off' ? 'reading' : state,
          since: at,
          joined_at: at,
        })
        .execute();
      if (state === 'taken off')
        await takeOffList(world.ctx, db(), newsletter, [id], { listId: list, by: { actor: 'member', name: 'Ottoline Vance' } });
      else
        await db()
          .insertInto('consents')
          .values({
            newsletter_id: newsletter.id,
            reader_id: id,
            list_id: list,
            act: state === 'left' ? 'leave' : 'ask',
            state,
            at,
            actor: 'reader',
          })
          .execute();
    };
    for (const [n, [a, b]] of pairs.entries()) {
      await put(ids[n]!, from, a);
      await put(ids[n]!, into, b);
    }
    return pairs.map(([a, b], n) => ({ id: ids[n]!, a, b }));
  }

  it('takes everybody along by the one rule, says so before, and every figure holds', async () => {
    const into = await world.list(newsletter);
    const { id: from } = await keepList(world.ctx, newsletter, null, { name: 'Field notes' });
    const people = await everyPair(from, into);
    const before = await mergingOf(world.ctx, newsletter, from, into);
    expect(before.people.reduce((sum, part) => sum + part.n, 0)).toBe(people.length);
    for (const part of before.people) expect(part.become).toBe(merged(part.from, part.into));
    await mergeLists(world.ctx, newsletter, WRITER, from, { into });
    const { rows } = await sql<{
      reader_id: string;
      list_id: string;
      state: string;
    }>`select reader_id, list_id, state from memberships`.execute(db());
    expect(new Set(rows.map((row) => row.list_id))).toEqual(new Set([into]));
    for (const { id, a, b } of people)
      expect([a, b, rows.find((row) => row.reader_id === id)?.state ?? null]).toEqual([a, b, merged(a, b)]);
    await world.work();
    expect(await recount(world.ctx, newsletter)).toBe(0);
    expect((await thingsOf(world.ctx, newsletter)).lists.map((list) => list.name)).toEqual(['Everyone']);
  });

  it('is followed by forms, auto-sends, segments, letters and imports', async () => {
    const into = await world.list(newsletter);
    const { id: from } = await keepList(world.ctx, newsletter, null, { name: 'Field notes' });
    const form = await createForm(world.ctx, newsletter, { name: 'Corner', listIds: [from, into] });
    await sql`update forms set list_ids = array[${from}, ${into}]::uuid[], definition = jsonb_set(definition, '{listChoice}', ${JSON.stringify([from, into])}::jsonb) where id = ${form.id}`.execute(
      db(),
    );
    const { id: segment } = await keepSegment(world.ctx, newsletter, null, {
      name: 'On it',
      condition: { kind: 'none', of: [{ kind: 'list', id: from, state: 'reading' }] },
    });
    const { senderId } = await world.sender(newsletter);
    const letter = await world.letter(newsletter, senderId, { audience: ofList(from), dueAt: new Date('2027-01-01') });
    await mergeLists(world.ctx, newsletter, WRITER, from, { into });
    const row = await db()
      .selectFrom('forms')
      .select(['list_ids', 'definition', 'public_id'])
      .where('id', '=', form.id)
      .executeTakeFirstOrThrow();
    expect([row.list_ids, row.definition.listChoice]).toEqual([[into], [into]]);
    expect(await publicForm(world.ctx, row.public_id)).toBeTruthy();
    const kept = (await segmentsOf(world.ctx, newsletter)).find((one) => one.id === segment)!;
    expect([kept.missing, JSON.stringify(kept.condition).includes(into)]).toEqual([[], true]);
    const { audience } = await db().selectFrom('letters').select('audience').where('id', '=', letter).executeTakeFirstOrThrow();
    expect(audience).toEqual(ofList(into));
  });

  it('refuses itself, another newsletter’s, and one that is put away', async () => {
    const into = await world.list(newsletter);
    const other = await world.list(await world.newsletter('Harbour Notes'));
    const { id: from } = await keepList(world.ctx, newsletter, null, { name: 'Field notes' });
    await expect(mergeLists(world.ctx, newsletter, WRITER, into, { into })).rejects.toMatchObject({ code: 'invalid' });
    await expect(mergeLists(world.ctx, newsletter, WRITER, from, { into: other })).rejects.toMatchObject({ code: 'not-found' });
    await expect(mergeLists(world.ctx, newsletter, WRITER, other, { into })).rejects.toMatchObject({ code: 'not-found' });
    await db().updateTable('lists').set({ archived_at: world.clock.now() }).where('id', '=', into).execute();
    await expect(mergeLists(world.ctx, newsletter, WRITER, from, { into })).rejects.toMatchObject({ code: 'conflict' });
  });
});

describe('a field that becomes another kind', () => {
  async function field(kind: FieldKind, answers: Answer[], options: string[] = []) {
    const id = newId();
    await db()
      .insertInto('fields')
      .values({
        id,
        newsletter_id: newsletter.id,
        key: 'asked',
        label: 'Asked',
        kind,
        options: JSON.stringify(options),
        created_at: world.clock.now(),
      })
      .execute();
    const readers = await world.readers(
      newsletter,
      answers.map((_, n) => `f${n}@heronmail.example`),
    );
    for (const [n, value] of answers.entries())
      await db()
        .insertInto('reader_answers')
        .values({
          reader_id: readers[n]!,
          field_id: id,
          value: JSON.stringify(value),
          folded: typeof value === 'string' ? value.toLowerCase() : null,
          at: world.clock.now(),
        })
        .execute();
    return id;
  }
  const answers = async (id: string) =>
    (
      await sql<{
        value: Answer;
      }>`select a.value from reader_answers a join readers r on r.id = a.reader_id where field_id = ${id} order by r.address`.execute(
        db(),
      )
    ).rows.map((row) => row.value);

  it.each<[FieldKind, FieldKind, Answer[], Answer[], string[]]>([
    ['text', 'number', ['42', '3,5', 'many'], [42, 3.5], ['many']],
    ['text', 'date', ['2024-05-03', '3/5/2024', 'soon'], ['2024-05-03', '2024-05-03'], ['soon']],
    ['text', 'yes/no', ['yes', 'Nein', 'perhaps'], [true, false], ['perhaps']],
    ['number', 'text', [42, 3.5], ['42', '3.5'], []],
    ['yes/no', 'text', [true, false], ['yes', 'no'], []],
    ['several choices', 'text', [['Red', 'Blue']], ['Red; Blue'], []],
    ['text', 'choice', ['Red', 'Blue', 'Red'], ['Red', 'Blue', 'Red'], []],
    ['date', 'date and time', ['2024-05-03'], ['2024-05-03T00:00'], []],
  ])('%s as %s', async (from, to, before, after, lost) => {
    const id = await field(from, before, from === 'several choices' ? ['Red', 'Blue'] : []);
    const looked = await kindChange(world.ctx, newsletter, id, to);
    expect([looked.fits, looked.lost, looked.examples]).toEqual([after.length, lost.length, lost]);
    expect(await answers(id)).toEqual(before);
    if (lost.length)
      await expect(changeKind(world.ctx, newsletter, id, { kind: to, typed: '99' })).rejects.toThrow(`Type ${lost.length}`);
    await changeKind(world.ctx, newsletter, id, { kind: to, typed: lost.length ? String(lost.length) : '' });
    expect(await answers(id)).toEqual(after);
    expect((await thingsOf(world.ctx, newsletter)).fields[0]!.kind).toBe(to);
  });

  it('is asked for as its new kind in forms, and stays as it is while a segment asks for the old one', async () => {
    const id = await field('text', ['42', '43']);
    const form = await createForm(world.ctx, newsletter, { name: 'Asks' });
    await sql`update forms set definition = jsonb_set(definition, '{fields}', definition->'fields' || '[{"key":"asked","kind":"text","label":"How many?"}]') where id = ${form.id}`.execute(
      db(),
    );
    await changeKind(world.ctx, newsletter, id, { kind: 'number' });
    const { definition } = await db()
      .selectFrom('forms')
      .select('definition')
      .where('id', '=', form.id)
      .executeTakeFirstOrThrow();
    expect(definition.fields.at(-1)).toMatchObject({ key: 'asked', kind: 'number', label: 'How many?' });
    await keepSegment(world.ctx, newsletter, null, {
      name: 'Many',
      condition: { kind: 'field', id, test: { is: 'number', from: 40 } },
    });
    await expect(changeKind(world.ctx, newsletter, id, { kind: 'text' })).rejects.toThrow('the segment “Many”');
    await expect(kindChange(world.ctx, await world.newsletter('Harbour Notes'), id, 'text')).rejects.toMatchObject({
      code: 'not-found',
    });
  });
});
