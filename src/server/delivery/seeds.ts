import { sql } from 'kysely';
import { isPlace, type Landed, MOST_BOXES } from '@/core/delivery/seeds';
import { Fault } from '@/core/faults';
import { parseAddress } from '@/core/readers/address';
import type { Person } from '../auth/session';
import type { Context, Newsletter } from '../context';
import { inTransaction } from '../db/connection';
import { newId } from '../ids';
import { limit, limitMailTo } from '../limits';
import { postAll } from '../mail/post';
import { proofMail, provedOf } from '../sending/proof';

export type SeedBox = { id: string; address: string };
export type SeedTest = { id: string; subject: string; byName: string; at: Date; copies: Landed[] };
/** Letters that a test can be made of. */
export type Triable = { id: string; subject: string };

const MOST_TESTS = 10;
const MOST_LETTERS = 20;

export function seedBoxes(ctx: Context, newsletter: Newsletter): Promise<SeedBox[]> {
  return ctx.db
    .selectFrom('seed_boxes')
    .select(['id', 'address'])
    .where('newsletter_id', '=', newsletter.id)
    .orderBy('created_at')
    .orderBy('id')
    .execute();
}

/** Adds a mailbox of the writer's own. Throws "invalid" for what is no address, or one too many. Twice is once. */
export async function addSeedBox(ctx: Context, newsletter: Newsletter, typed: unknown): Promise<void> {
  const address = parseAddress(String(typed ?? ''));
  if (!address) throw new Fault('invalid', 'This is not an address.', { address: 'This does not look like an email address.' });
  await inTransaction(ctx.db, async (trx) => {
    await trx.selectFrom('newsletters').select('id').where('id', '=', newsletter.id).forUpdate().executeTakeFirstOrThrow();
    const known = await trx.selectFrom('seed_boxes').select('address').where('newsletter_id', '=', newsletter.id).execute();
    if (known.some((one) => one.address === address.full)) return;
    if (known.length >= MOST_BOXES)
      throw new Fault('invalid', `There are ${MOST_BOXES} boxes already. Take one away first.`, { address: 'One too many.' });
    await trx
      .insertInto('seed_boxes')
      .values({ id: newId(), newsletter_id: newsletter.id, address: address.full, created_at: ctx.clock.now() })
      .execute();
  });
}

export async function dropSeedBox(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  await ctx.db.deleteFrom('seed_boxes').where('id', '=', id).where('newsletter_id', '=', newsletter.id).execute();
}

/** The latest letters that can be tried. */
export function triableLetters(ctx: Context, newsletter: Newsletter): Promise<Triable[]> {
  return ctx.db
    .selectFrom('letters')
    .select(['id', 'subject'])
    .where('newsletter_id', '=', newsletter.id)
    .where('archived_at', 'is', null)
    .where('post_id', 'is not', null)
    .where('subject', '<>', '')
    .orderBy('due_at', 'desc')
    .orderBy('id', 'desc')
    .limit(MOST_LETTERS)
    .execute();
}

/**
 * Sends a letter as it stands to each of the writer's own boxes, so that they can look where it landed. It looks as readers will get it; that it is a test stands under
 * it. Nothing of it is counted. Throws "conflict" without a box or a confirmed sender, "not-found", "too-many".
 */
export async function startSeedTest(
  ctx: Context,
  newsletter: Newsletter,
  person: Pick<Person, 'name'>,
  letterId: unknown,
): Promise<{ said: string }> {
  const boxes = await seedBoxes(ctx, newsletter);
  if (boxes.length === 0) throw new Fault('conflict', 'Add a box of your own first.');
  const [letter] = await provedOf(ctx, newsletter, String(letterId ?? ''));
  await limit(ctx, `seeds:${newsletter.id}`, 10, 86_400, 'Ten tests were made today. Please wait until tomorrow.');
  for (const { address } of boxes) await limitMailTo(ctx, address);
  const mail = await proofMail(ctx, newsletter, letter!, `A test of where this lands, asked for by ${person.name}.`, 'under');
  await inTransaction(ctx.db, async (trx) => {
    const id = newId();
    await trx
      .insertInto('seed_tests')
      .values({
        id,
        newsletter_id: newsletter.id,
        letter_id: String(letterId),
        subject: mail.subject,
        by_name: person.name,
        at: ctx.clock.now(),
      })
      .execute();
    const mails = await postAll(
      ctx,
      trx,
      boxes.map(({ address }) => ({ newsletterId: newsletter.id, kind: 'test letter', to: address, ...mail })),
    );
    await trx
      .insertInto('seed_copies')
      .values(boxes.map(({ address }, n) => ({ test_id: id, address, mail_id: mails[n]! })))
      .execute();
  });
  return {
    said: `It is on its way to ${boxes.length === 1 ? 'your box' : `${boxes.length} boxes`}. Look into each, and say where it lay.`,
  };
}

/** The latest tests, each with where its copies were found. */
export async function seedTests(ctx: Context, newsletter: Newsletter): Promise<SeedTest[]> {
  const tests = await ctx.db
    .selectFrom('seed_tests')
    .select(['id', 'subject', 'by_name', 'at'])
    .where('newsletter_id', '=', newsletter.id)
    .orderBy('at', 'desc')
    .orderBy('id')
    .limit(MOST_TESTS)
    .execute();
  if (tests.length === 0) return [];
  const { rows } = await sql<Landed & { test_id: string }>`
    select c.test_id, c.address, c.place, case when m.id is null or m.state = 'delivered' then 'delivered' when m.state in ('queued', 'claimed') then 'under way' else 'not taken' end as mail
    from seed_copies c left join mails m on m.id = c.mail_id
    where c.test_id = any(${tests.map(({ id }) => id)}::uuid[]) order by split_part(c.address, '@', 2), c.address`.execute(
    ctx.db,
  );
  return tests.map(({ id, subject, by_name, at }) => ({
    id,
    subject,
    byName: by_name,
    at,
    copies: rows.filter((row) => row.test_id === id).map(({ address, mail, place }) => ({ address, mail, place })),
  }));
}

/** Says where a copy of a test was found; said anew, it is the later. Throws "invalid" for no place, "not-found" for no copy. */
export async function sayWhere(
  ctx: Context,
  newsletter: Newsletter,
  testId: string,
  address: string,
  place: unknown,
): Promise<void> {
  if (!isPlace(place)) throw new Fault('invalid', 'Say where it lay.');
  const { numUpdatedRows } = await ctx.db
    .updateTable('seed_copies')
    .set({ place, said_at: ctx.clock.now() })
    .where('address', '=', address)
    .where('test_id', 'in', (eb) =>
      eb.selectFrom('seed_tests').select('id').where('id', '=', testId).where('newsletter_id', '=', newsletter.id),
    )
    .executeTakeFirstOrThrow();
  if (!numUpdatedRows) throw new Fault('not-found', 'There is no such test any more.');
}
