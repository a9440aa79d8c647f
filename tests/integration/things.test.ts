import { sql } from 'kysely';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { formOf, publishForm, saveDraft } from '@/server/forms/forms';
import { newId } from '@/server/ids';
import {
  archiveList,
  keepList,
  moveList,
  removeField,
  removeList,
  removeTag,
  renameField,
  renameTag,
  thingsOf,
} from '@/server/keeping/things';
import { listsOf, totalsOf } from '@/server/readers/readers';
import { keepSegment, segmentsOf } from '@/server/readers/segments';
import { howMany } from '@/server/readers/table';
import { TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
beforeEach(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
});
afterEach(() => world.close());

const things = () => thingsOf(world.ctx, newsletter);
const names = async () => (await things()).lists.map((list) => list.name);
const make = (name: string, more = {}) => keepList(world.ctx, newsletter, null, { name, ...more });
const tag = async (ids: string[], name: string) => {
  for (const id of ids)
    await world.ctx.db
      .insertInto('reader_tags')
      .values({ reader_id: id, newsletter_id: newsletter.id, tag: name, at: world.clock.now() })
      .execute();
};

describe('lists', () => {
  it('are made, renamed, put in order and away, each under a name of its own', async () => {
    const [first] = await names();
    const { id } = await make('Field notes', {
      publicName: 'Notes',
      description: 'From the boat.',
      doubleOptIn: 'no',
      public: 'no',
    });
    expect((await things()).lists[1]).toMatchObject({
      name: 'Field notes',
      publicName: 'Notes',
      description: 'From the boat.',
      doubleOptIn: false,
      public: false,
      neededBy: [],
    });
    await expect(make('field NOTES')).rejects.toMatchObject({ code: 'conflict' });
    await expect(make('')).rejects.toMatchObject({ code: 'invalid' });
    await keepList(world.ctx, newsletter, id, { name: 'Field notes', publicName: '' });
    expect((await things()).lists[1]!.publicName).toBe('Field notes');
    await moveList(world.ctx, newsletter, id, 'up');
    await moveList(world.ctx, newsletter, id, 'up');
    expect(await names()).toEqual(['Field notes', first]);
    await archiveList(world.ctx, newsletter, id, true);
    expect((await listsOf(world.ctx, newsletter)).map((list) => list.name)).toEqual([first]);
    await archiveList(world.ctx, newsletter, id, false);
    expect(await listsOf(world.ctx, newsletter)).toHaveLength(2);
    const stranger = await world.newsletter('A stranger');
    await expect(keepList(world.ctx, stranger, id, { name: 'Mine' })).rejects.toMatchObject({ code: 'not-found' });
    await expect(removeList(world.ctx, stranger, id)).rejects.toMatchObject({ code: 'not-found' });
  });

  it('are not let go of while something needs them or somebody is on them; what people agreed to outlives them', async () => {
    const first = await world.list(newsletter);
    const [ada] = await world.readers(newsletter, ['ada@heronmail.example']);
    await expect(removeList(world.ctx, newsletter, first)).rejects.toMatchObject({
      sentence: expect.stringContaining('is needed by the form “'),
    });
    const { id } = await make('Field notes');
    const { senderId } = await world.sender(newsletter);
    const letter = await world.letter(newsletter, senderId, {
      subject: 'A draft',
      audience: { to: [{ kind: 'list', id }], without: [] },
    });
    const segment = await keepSegment(world.ctx, newsletter, null, {
      name: 'Notes',
      condition: { kind: 'list', id, state: 'reading' },
    });
    expect((await things()).lists.find((list) => list.id === id)!.neededBy).toEqual([
      'the letter “A draft”',
      'the segment “Notes”',
    ]);
    for (const act of [() => removeList(world.ctx, newsletter, id), () => archiveList(world.ctx, newsletter, id, true)])
      await expect(act()).rejects.toMatchObject({
        sentence: expect.stringContaining('the letter “A draft”, the segment “Notes”'),
      });
    await world.ctx.db.deleteFrom('letters').where('id', '=', letter).execute();
    await world.ctx.db.deleteFrom('segments').where('id', '=', segment.id).execute();
    const at = world.clock.now();
    await world.ctx.db
      .insertInto('memberships')
      .values({ reader_id: ada!, list_id: id, newsletter_id: newsletter.id, state: 'reading', since: at, joined_at: at })
      .execute();
    await sql`insert into consents (newsletter_id, reader_id, list_id, list_name, act, state, at, actor) values (${newsletter.id}, ${ada}, ${id}, 'Field notes', 'ask', 'reading', ${at}, 'reader')`.execute(
      world.ctx.db,
    );
    await expect(removeList(world.ctx, newsletter, id)).rejects.toMatchObject({
      sentence: expect.stringContaining('1 person is on “Field notes”'),
    });
    await sql`update memberships set state = 'left' where list_id = ${id}`.execute(world.ctx.db);
    await removeList(world.ctx, newsletter, id);
    expect((await sql`select list_name from consents`.execute(world.ctx.db)).rows).toEqual([{ list_name: 'Field notes' }]);
    expect(await totalsOf(world.ctx, newsletter)).toMatchObject({ reading: 1 });
    expect((await sql<{ n: number }>`select recount_people(${newsletter.id}) as n`.execute(world.ctx.db)).rows[0]!.n).toBe(0);
  });
});

describe('tags', () => {
  it('take another name wherever they are named, and become one with it where it is there', async () => {
    const ids = await world.readers(newsletter, ['a@heronmail.example', 'b@heronmail.example', 'c@heronmail.example']);
    await tag(ids.slice(0, 2), 'reef');
    await tag(ids.slice(1), 'coral');
    const form = await world.newForm(newsletter);
    const now = await formOf(world.ctx, newsletter, form.id);
    const definition = { ...now.definition, next: { ...now.definition.next, tags: ['reef'] } };
    await saveDraft(world.ctx, newsletter, form.id, { name: 'Tagging', definition, listIds: now.listIds });
    await publishForm(world.ctx, newsletter, form.id);
    const { id } = await keepSegment(world.ctx, newsletter, null, {
      name: 'Reefs',
      condition: { kind: 'none', of: [{ kind: 'tag', tag: 'reef' }] },
    });
    await expect(removeTag(world.ctx, newsletter, 'reef')).rejects.toMatchObject({
      sentence: '“reef” is needed by the form “Tagging”, the segment “Reefs”. Change that first.',
    });
    await expect(renameTag(world.ctx, newsletter, 'Gone', 'X')).rejects.toMatchObject({ code: 'not-found' });
    await expect(renameTag(world.ctx, newsletter, 'reef', ' ')).rejects.toMatchObject({ code: 'invalid' });
    await renameTag(world.ctx, newsletter, 'reef', 'coral');
    expect((await things()).tags).toEqual([
      { name: 'coral', reading: 3, people: 3, neededBy: ['the form “Tagging”', 'the segment “Reefs”'] },
    ]);
    expect((await formOf(world.ctx, newsletter, form.id)).definition.next.tags).toEqual(['coral']);
    expect((await segmentsOf(world.ctx, newsletter)).find((one) => one.id === id)).toMatchObject({
      missing: [],
      condition: { of: [{ tag: 'coral' }] },
    });
    expect(await howMany(world.ctx, newsletter, { find: '', condition: { kind: 'tag', tag: 'coral' } })).toBe(3);
    await world.ctx.db.deleteFrom('segments').where('id', '=', id).execute();
    await sql`update forms set archived_at = now() where id = ${form.id}`.execute(world.ctx.db);
    await removeTag(world.ctx, newsletter, 'coral');
    expect([(await things()).tags, (await totalsOf(world.ctx, newsletter)).reading]).toEqual([[], 3]);
  });
});

describe('fields', () => {
  it('are called something else, and deleted with the number of their answers typed, unless something needs them', async () => {
    const [ada] = await world.readers(newsletter, ['a@heronmail.example']);
    const id = newId();
    await world.ctx.db
      .insertInto('fields')
      .values({
        id,
        newsletter_id: newsletter.id,
        key: 'depth',
        label: 'Depth',
        kind: 'number',
        options: '[]',
        created_at: world.clock.now(),
      })
      .execute();
    await sql`insert into reader_answers (reader_id, field_id, value, at) values (${ada}, ${id}, '600', now())`.execute(
      world.ctx.db,
    );
    await renameField(world.ctx, newsletter, id, 'How deep');
    const segment = await keepSegment(world.ctx, newsletter, null, {
      name: 'Deep',
      condition: { kind: 'field', id, test: { is: 'answered' } },
    });
    expect((await things()).fields).toEqual([
      { id, label: 'How deep', kind: 'number', answers: 1, neededBy: ['the segment “Deep”'] },
    ]);
    await expect(removeField(world.ctx, newsletter, id, '1')).rejects.toMatchObject({ code: 'conflict' });
    await world.ctx.db.deleteFrom('segments').where('id', '=', segment.id).execute();
    // A line that is read before the letter is opened asks for it, of the letter or of one of its versions.
    const { senderId } = await world.sender(newsletter);
    const letter = await world.letter(newsletter, senderId, { subject: 'Down to ‹depth or the bottom›' });
    const neededBy = async () => (await things()).fields[0]!.neededBy;
    expect(await neededBy()).toEqual(['the letter “Down to ‹depth or the bottom›”']);
    const say = (subject: string, preview_line: string) =>
      world.ctx.db.updateTable('letters').set({ subject, preview_line }).where('id', '=', letter).execute();
    await say('Down', 'To ‹depth› metres');
    expect(await neededBy()).toEqual(['the letter “Down”']);
    await say('Down', 'To ‹depths› metres');
    expect(await neededBy()).toEqual([]);
    await world.ctx.db.insertInto('letter_versions').values({ letter_id: letter, n: 1, subject: '‹depth›' }).execute();
    expect(await neededBy()).toEqual(['the letter “Down”']);
    await expect(removeField(world.ctx, newsletter, id, '1')).rejects.toMatchObject({ code: 'conflict' });
    await world.ctx.db.deleteFrom('letters').where('id', '=', letter).execute();
    await expect(removeField(world.ctx, newsletter, id, '2')).rejects.toMatchObject({
      sentence: expect.stringContaining('Nothing was deleted'),
    });
    await expect(removeField(world.ctx, await world.newsletter('A stranger'), id, '1')).rejects.toMatchObject({
      code: 'not-found',
    });
    await removeField(world.ctx, newsletter, id, '1');
    expect((await sql`select 1 from reader_answers`.execute(world.ctx.db)).rows).toEqual([]);
  });
});
