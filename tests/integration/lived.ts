import sharp from 'sharp';
import { usualSettings } from '@/core/autosend/rule';
import { ofList } from '@/core/sending/audience';
import type { Newsletter } from '@/server/context';
import { inTransaction } from '@/server/db/connection';
import { MarkBook, writeMarks } from '@/server/delivery/marks';
import { countForms } from '@/server/forms/counts';
import { keepAnswers } from '@/server/forms/fields';
import { publishForm, saveDraft } from '@/server/forms/forms';
import { newId } from '@/server/ids';
import { addToList, suppressReaders, tagReaders } from '@/server/keeping/acts';
import { eraseReaders } from '@/server/keeping/erase';
import { changeReader } from '@/server/keeping/profile';
import { keepList } from '@/server/keeping/things';
import { keepGift, keepLogo, keepPicture } from '@/server/newsletters/media';
import { overFetch } from '@/server/public/request';
import { publicRoutes } from '@/server/public/router';
import { keepSegment, measureSegments } from '@/server/readers/segments';
import { DAY, formPoster, type TestWorld } from './world';

const BY = { actor: 'member' as const, name: 'Ottoline Vance' };

/**
 * Gives a newsletter everything that one can have after some time: readers of every kind, with and without answers, tags and names in several alphabets; a
 * form that was changed, a segment, pictures, letters that were sent, opened and left, one that waits, and one of somebody who was erased.
 */
export async function live(
  world: TestWorld,
  newsletter: Newsletter,
): Promise<{ readers: string[]; letter: string; erased: string; publicId: string }> {
  const { ctx } = world;
  const { db } = ctx;
  const png = await sharp({ create: { width: 40, height: 20, channels: 3, background: '#17645c' } })
    .png()
    .toBuffer();
  await keepLogo(ctx, newsletter, new File([new Uint8Array(png)], 'logo.png', { type: 'image/png' }));
  const { url } = await keepPicture(ctx, newsletter, new File([new Uint8Array(png)], 'reef.png', { type: 'image/png' }));
  const gift = await keepGift(ctx, newsletter, new File(['tide table'], 'tides.txt'));
  const list = await world.list(newsletter);
  const other = await keepList(ctx, newsletter, null, {
    name: 'Diving',
    publicName: 'On diving',
    description: 'Where and when',
    public: 'yes',
    doubleOptIn: 'yes',
  });
  const form = await world.newForm(newsletter);
  const publicId = form.publicId;
  const row = await db.selectFrom('forms').selectAll().where('id', '=', form.id).executeTakeFirstOrThrow();
  const definition = {
    ...row.definition,
    heading: 'Letters from the reef',
    listChoice: [list, other.id],
    look: { ...row.definition.look, picture: { url, alt: 'A reef', stands: 'above' } },
    next: { ...row.definition.next, gift: { kind: 'file', label: 'A tide table', url: '', fileId: gift.id }, tags: ['asked'] },
  };
  await saveDraft(ctx, newsletter, form.id, { name: 'In the margin', definition, listIds: [list] });
  await publishForm(ctx, newsletter, form.id);
  await saveDraft(ctx, newsletter, form.id, {
    name: 'In the margin',
    definition: { ...definition, heading: 'Not out yet' },
    listIds: [list],
  });
  const send = formPoster(overFetch(publicRoutes(ctx, new MarkBook(ctx))));
  for (const name of ['otto', 'pia', 'quill']) await send(publicId, { email: `${name}@tinyharbour.example`, lists: list });
  await world.work();
  await db
    .updateTable('readers')
    .set({ source_page: 'https://saltmarsh.example/a?b=1', last_touch: JSON.stringify({ campaign: 'autumn' }) })
    .where('newsletter_id', '=', newsletter.id)
    .execute();
  const readers = await world.readers(newsletter, [
    ...Array.from({ length: 14 }, (_, n) => `r${n}@heronmail.example`),
    'zoë@postbird.example',
    'İlker@postbird.example',
  ]);
  await db
    .insertInto('fields')
    .values([
      {
        id: newId(),
        newsletter_id: newsletter.id,
        key: 'boat',
        label: 'Your boat',
        kind: 'text',
        options: '[]',
        created_at: world.clock.now(),
      },
      {
        id: newId(),
        newsletter_id: newsletter.id,
        key: 'seas',
        label: 'Seas',
        kind: 'several choices',
        options: '["North","South"]',
        created_at: world.clock.now(),
      },
    ])
    .execute();
  await keepAnswers(ctx, db, [
    { newsletterId: newsletter.id, readerId: readers[0]!, answers: { boat: '=1+1 “Zoë”', seas: ['North', 'South'] } },
    { newsletterId: newsletter.id, readerId: readers[1]!, answers: { boat: 'two\nlines' } },
  ]);
  await changeReader(ctx, newsletter, readers[2]!, { firstName: 'Ada "the first", née Reef', note: 'Likes\neels 🐍' });
  await db.insertInto('tags').values({ newsletter_id: newsletter.id, name: 'nobody' }).execute();
  await inTransaction(db, async (trx) => {
    await tagReaders(ctx, trx, newsletter, readers.slice(0, 5), 'diver, keen');
    await addToList(ctx, trx, newsletter, readers.slice(3, 6), {
      listId: other.id,
      agreement: { how: 'vouched', said: 'At the pier.' },
      by: BY,
    });
    await suppressReaders(ctx, trx, newsletter, [readers[6]!], BY);
  });
  const { id: segment } = await keepSegment(ctx, newsletter, null, {
    name: 'Divers',
    condition: {
      kind: 'any',
      of: [
        { kind: 'tag', tag: 'diver, keen' },
        { kind: 'list', id: other.id, state: 'reading' },
        { kind: 'came by', what: 'form', is: form.id },
      ],
    },
  });
  await countForms(ctx, db, [{ newsletter, formId: form.id, field: 'loaded', by: 40 }]);
  const { senderId } = await world.sender(newsletter);
  world.mail.answers.set('r7@heronmail.example', [550, '5.1.1 No such user here']);
  const letter = await world.letter(newsletter, senderId, {
    subject: 'Why the anglerfish waits',
    nodes: [
      {
        kind: 'paragraph',
        inline: [
          { kind: 'text', text: 'Dear ' },
          { kind: 'chip', field: 'first_name', fallback: 'reader' },
          { kind: 'text', text: ', look', href: 'https://saltmarsh.example/look' },
        ],
      },
      { kind: 'picture', src: url, alt: 'A reef' },
    ],
    audience: {
      to: [
        { kind: 'list', id: list },
        { kind: 'segment', id: segment },
        { kind: 'readers', ids: [readers[0]!] },
      ],
      without: [{ kind: 'tag', tag: 'nobody' }],
    },
  });
  await world.work();
  const copies = await db
    .selectFrom('deliveries')
    .select(['id', 'sent_on', 'reader_id'])
    .where('letter_id', '=', letter)
    .orderBy('id')
    .execute();
  for (const [n, kind] of [
    [0, 'open'],
    [1, 'click'],
    [2, 'open'],
  ] as const)
    await writeMarks(ctx, [
      {
        ref: { sentOn: copies[n]!.sent_on, id: BigInt(copies[n]!.id) as never },
        kind,
        at: world.clock.now(),
        agent: 'Mozilla/5.0 (X11; Linux x86_64) A browser',
        method: 'GET',
        link: kind === 'click' ? 0 : null,
      },
    ]);
  const erased = readers[8]!;
  await inTransaction(db, (trx) => eraseReaders(ctx, trx, newsletter, [erased], BY));
  await world.letter(newsletter, senderId, {
    subject: 'Not yet',
    dueAt: new Date(world.clock.now().getTime() + 3 * DAY),
    audience: { to: [{ kind: 'segment', id: segment }], without: [] },
  });
  const layout = await db.selectFrom('layouts').select('id').where('newsletter_id', '=', newsletter.id).executeTakeFirstOrThrow();
  const [rule, feed, item, run] = [newId(), newId(), newId(), newId()];
  await db
    .insertInto('feeds')
    .values({
      id: feed,
      newsletter_id: newsletter.id,
      url: 'https://saltmarsh.example/feed',
      title: 'Saltmarsh',
      read_at: world.clock.now(),
      created_at: world.clock.now(),
    })
    .execute();
  await db
    .insertInto('auto_sends')
    .values({
      id: rule,
      newsletter_id: newsletter.id,
      name: 'New posts',
      settings: JSON.stringify({
        ...usualSettings('Europe/Lisbon'),
        choices: { daily: '07:00', weekly: { day: 7, hour: '09:00' } },
      }),
      audience: JSON.stringify(ofList(list)),
      sender_id: senderId,
      layout_id: layout.id,
      switched_on_at: null,
      created_at: world.clock.now(),
    })
    .execute();
  await db
    .insertInto('auto_send_feeds')
    .values({ auto_send_id: rule, feed_id: feed, since: world.clock.now(), begun_at: world.clock.now() })
    .execute();
  await db
    .insertInto('feed_items')
    .values({
      id: item,
      feed_id: feed,
      item_key: 'k1',
      title: 'One',
      link: 'https://saltmarsh.example/1',
      topics: ['tides'],
      document: JSON.stringify({ version: 1, nodes: [] }),
      source: 's1',
      print: 'p1',
      first_seen_at: world.clock.now(),
      changed_at: world.clock.now(),
    })
    .execute();
  await db
    .insertInto('rule_posts')
    .values({ auto_send_id: rule, item_id: item, state: 'ready', place: 1, filed_at: world.clock.now() })
    .execute();
  await db.insertInto('rule_lanes').values({ auto_send_id: rule, lane: 'usual', upto: 1 }).execute();
  await db
    .insertInto('rule_runs')
    .values({ id: run, auto_send_id: rule, lane: 'usual', at: world.clock.now(), upto: 1, state: 'done', grouped: true })
    .execute();
  await db.insertInto('letter_posts').values({ letter_id: letter, auto_send_id: rule, item_id: item, place: 1 }).execute();
  await db.updateTable('letters').set({ auto_send_id: rule, run_id: run, lane: 'usual' }).where('id', '=', letter).execute();
  await db
    .insertInto('reader_rhythms')
    .values({
      auto_send_id: rule,
      reader_id: readers[1]!,
      newsletter_id: newsletter.id,
      lane: 'weekly',
      since: 1,
      chosen_at: world.clock.now(),
    })
    .execute();
  await measureSegments(ctx, newsletter.id);
  await world.work();
  return { readers, letter, erased, publicId };
}
