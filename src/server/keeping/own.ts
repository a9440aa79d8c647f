import Joi from 'joi';
import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import type { Answer, FieldKind } from '@/core/forms/fields';
import { parseAddress } from '@/core/readers/address';
import { choiceWords } from '@/core/readers/choice-words';
import { readOwnToken } from '@/core/sending/token';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import { type Db, inTransaction } from '../db/connection';
import { within } from '../limits';
import { refuseClosing } from '../newsletters/newsletters';
import { suppressedAmong } from '../readers/suppressed';
import type { Visitor } from '../readers/visitor';
import { hashToken, mailedToken } from '../secrets';
import { entry, noticeTo } from './choices';
import { eraseReaders } from './erase';
import { changeReader, dataOf } from './profile';

/** What somebody sees of themselves by the link that was mailed to them. */
export type Own = {
  newsletter: Newsletter;
  readerId: string;
  address: string;
  firstName: string;
  /** What they were asked in a form, and may answer otherwise. */
  answers: { id: string; label: string; kind: FieldKind; options: string[]; value: Answer }[];
};

const MOVE_HOURS = 48;
const MOVES_A_DAY = 3;

/** Who is meant, while the link lasts. Throws "not-found" and "expired". */
async function meant(ctx: Context, token: string): Promise<{ newsletter: Newsletter; readerId: string }> {
  const ref = readOwnToken(token, ctx.config.keys);
  if (!ref) throw new Fault('not-found', 'A part of this link is missing. Open it from the mail again.');
  if (ref.until <= ctx.clock.now())
    throw new Fault('expired', 'This link has run out after a day. Ask for a new one by the link at the end of any letter.');
  const reader = await ctx.db.selectFrom('readers').select('newsletter_id').where('id', '=', ref.readerId).executeTakeFirst();
  const newsletter =
    reader &&
    (await ctx.db
      .selectFrom('newsletters')
      .selectAll()
      .where('id', '=', reader.newsletter_id)
      .where('removed_at', 'is', null)
      .executeTakeFirst());
  if (!newsletter) throw new Fault('not-found', 'We do not know this reader any more: nothing is kept of them.');
  return { newsletter, readerId: ref.readerId };
}

/** What is kept of somebody that they can change. */
export async function ownOf(ctx: Context, token: string): Promise<Own> {
  const { newsletter, readerId } = await meant(ctx, token);
  const reader = await ctx.db
    .selectFrom('readers')
    .select(['address', 'first_name'])
    .where('id', '=', readerId)
    .executeTakeFirstOrThrow();
  const { rows } = await sql<Own['answers'][number]>`
    select f.id, f.label, f.kind, f.options, a.value from fields f left join reader_answers a on a.field_id = f.id and a.reader_id = ${readerId}
    where f.newsletter_id = ${newsletter.id} and exists (
      select 1 from forms o, jsonb_array_elements(o.definition->'fields') q where o.newsletter_id = f.newsletter_id and q->>'key' = f.key and q->>'kind' <> 'hidden')
    order by f.created_at, f.key`.execute(ctx.db);
  return { newsletter, readerId, address: reader.address, firstName: reader.first_name ?? '', answers: rows };
}

/** Everything that is kept of somebody, for them to have. */
export async function ownData(ctx: Context, token: string): Promise<Record<string, unknown>> {
  const { newsletter, readerId } = await meant(ctx, token);
  const { reader, ...data } = await dataOf(ctx, newsletter, readerId);
  // A note is the writer's own thought: whoever wants to know of it asks the writer.
  const { note: _, ...own } = reader as Record<string, unknown>;
  return { reader: own, ...data };
}

/** Changes the name and the answers that somebody was asked for. Throws "invalid" with a sentence a field. */
export async function changeOwn(ctx: Context, token: string, raw: Record<string, string>): Promise<Own> {
  const own = await ownOf(ctx, token);
  const asked = Object.fromEntries(own.answers.map(({ id }) => [`field ${id}`, raw[`field ${id}`] ?? '']));
  const { note } = await ctx.db.selectFrom('readers').select('note').where('id', '=', own.readerId).executeTakeFirstOrThrow();
  await changeReader(ctx, own.newsletter, own.readerId, { firstName: raw.firstName ?? '', note, ...asked });
  return ownOf(ctx, token);
}

const addressSchema = Joi.object<{ address: string }>({ address: Joi.string().trim().max(320).required().label('Address') });

/**
 * Mails a link to a new address, by which its owner takes the letters over. The answer is the same for an address that reads already or may not be written
 * to: nobody learns here who reads. Throws "invalid" for what is no address, and "too-many".
 */
export async function askToMove(ctx: Context, token: string, raw: unknown): Promise<{ own: Own; address: string }> {
  const own = await ownOf(ctx, token);
  const { newsletter, readerId } = own;
  refuseClosing(newsletter);
  const address = parseAddress(check(addressSchema, raw).address);
  if (!address) throw new Fault('invalid', 'This does not look like an email address.');
  const words = choiceWords(newsletter.language, newsletter.name);
  if (await isSuppressed(ctx.db, readerId)) throw new Fault('conflict', words.gone);
  if (!(await within(ctx, `move:${readerId}`, MOVES_A_DAY, 86_400))) throw new Fault('too-many', words.tooOften);
  await inTransaction(ctx.db, async (trx) => {
    const taken = await trx
      .selectFrom('readers')
      .select('id')
      .where('newsletter_id', '=', newsletter.id)
      .where('address_key', '=', address.key)
      .executeTakeFirst();
    const barred = (await suppressedAmong(ctx, trx, newsletter.id, [address.key])).size > 0;
    if (taken || barred) return;
    const { token: link, hash } = mailedToken();
    const now = ctx.clock.now();
    await trx.deleteFrom('address_changes').where('reader_id', '=', readerId).execute();
    await trx
      .insertInto('address_changes')
      .values({
        token_hash: hash,
        newsletter_id: newsletter.id,
        reader_id: readerId,
        address: address.full,
        address_key: address.key,
        sent_at: now,
        expires_at: new Date(now.getTime() + MOVE_HOURS * 3_600_000),
      })
      .execute();
    await noticeTo(ctx, trx, newsletter, {
      readerId,
      to: address.full,
      heading: words.move,
      words: words.moveMail,
      link: { label: words.move, url: `${ctx.config.linkOrigin}/e/move/${link}` },
    });
  });
  return { own, address: address.full };
}

type Move = { newsletter: Newsletter; address: string };
async function moveOf(ctx: Context, token: string) {
  const row = await ctx.db
    .selectFrom('address_changes')
    .selectAll()
    .where('token_hash', '=', hashToken(token))
    .executeTakeFirst();
  if (!row) throw new Fault('not-found', 'This link does not work any more, or a part of it is missing.');
  if (row.expires_at <= ctx.clock.now()) throw new Fault('expired', 'This link has run out. Ask for a new one.');
  const newsletter = await ctx.db
    .selectFrom('newsletters')
    .selectAll()
    .where('id', '=', row.newsletter_id)
    .where('removed_at', 'is', null)
    .executeTakeFirst();
  if (!newsletter) throw new Fault('not-found', 'This newsletter is no longer there.');
  return { row, newsletter };
}

/** What the link to a new address says. Changes nothing. */
export async function moving(ctx: Context, token: string): Promise<Move> {
  const { row, newsletter } = await moveOf(ctx, token);
  return { newsletter, address: row.address };
}

/** What suppressed somebody stands under their address: they do not move past it. */
const isSuppressed = async (db: Db, readerId: string): Promise<boolean> =>
  (await db.selectFrom('readers').select('address_state').where('id', '=', readerId).executeTakeFirst())?.address_state ===
  'suppressed';

/** Letters go to the new address from now on; the old one is told. Throws "conflict" where somebody else has it since. */
export async function move(ctx: Context, token: string, visitor: Visitor): Promise<Move> {
  const { row, newsletter } = await moveOf(ctx, token);
  await inTransaction(ctx.db, async (trx) => {
    const before = await trx
      .selectFrom('readers')
      .select('address')
      .where('id', '=', row.reader_id)
      .forUpdate()
      .executeTakeFirst();
    const other = await trx
      .selectFrom('readers')
      .select('id')
      .where('newsletter_id', '=', newsletter.id)
      .where('address_key', '=', row.address_key)
      .where('id', '<>', row.reader_id)
      .executeTakeFirst();
    if (
      !before ||
      other ||
      (await isSuppressed(trx, row.reader_id)) ||
      (await suppressedAmong(ctx, trx, newsletter.id, [row.address_key])).size > 0
    )
      throw new Fault('conflict', 'Letters cannot go to this address any more. Nothing was changed.');
    await sql`
      update readers set address = ${row.address}, address_key = ${row.address_key}, domain_id = mail_domain(${row.address}), soft_evidence = 0, soft_at = null,
        address_state = 'fine' where id = ${row.reader_id}`.execute(trx);
    await entry(ctx, trx, newsletter, { readerId: row.reader_id, act: 'move', state: 'as before', visitor });
    const words = choiceWords(newsletter.language, newsletter.name);
    await noticeTo(ctx, trx, newsletter, {
      readerId: row.reader_id,
      to: before.address,
      heading: words.newAddress,
      words: words.movedMail,
    });
    await trx.deleteFrom('address_changes').where('reader_id', '=', row.reader_id).execute();
  });
  return { newsletter, address: row.address };
}

/** Erases somebody at their own wish, at once and for good. */
export async function eraseOwn(ctx: Context, token: string): Promise<Newsletter> {
  const { newsletter, readerId } = await meant(ctx, token);
  await inTransaction(ctx.db, (trx) => eraseReaders(ctx, trx, newsletter, [readerId], { actor: 'reader', name: null }));
  return newsletter;
}

/** Forgets new addresses that were never confirmed. */
export async function forgetOldMoves(ctx: Context): Promise<void> {
  await ctx.db.deleteFrom('address_changes').where('expires_at', '<=', ctx.clock.now()).execute();
}
