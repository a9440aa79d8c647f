import type { Context } from '../context';
import { post } from '../mail/post';
import { voiceOf } from '../senders/senders';
import { confirmationLetter } from './arrive';
import { complete } from './forms';

/** How long somebody may wait before the one reminder. */
const AFTER_MS = 3 * 86_400_000;

/**
 * Reminds, once and gently, those who asked three days ago and have not confirmed: a new confirmation letter and nothing after it. Where the
 * form's reminder is off, or nobody waits any more, the wish is marked as done without a letter. Returns how many were reminded.
 */
export async function remindWaiting(ctx: Context, most = 100): Promise<number> {
  const now = ctx.clock.now();
  let reminded = 0;
  for (let n = 0; n < most; n += 1) {
    const more = await ctx.db.transaction().execute(async (trx) => {
      const row = await trx
        .selectFrom('confirmations as c')
        .innerJoin('newsletters as n', 'n.id', 'c.newsletter_id')
        .innerJoin('readers as r', 'r.id', 'c.reader_id')
        .leftJoin('forms as f', 'f.id', 'c.form_id')
        .select([
          'c.token_hash',
          'c.reader_id',
          'c.list_ids',
          'c.form_id',
          'c.variant',
          'c.expires_at',
          'n.id as newsletter_id',
          'n.name',
          'n.slug',
          'n.postal_address',
          'r.address',
          'r.address_state',
          'f.name as form_name',
          'f.definition',
        ])
        .where('n.closing_at', 'is', null)
        .where('c.used_at', 'is', null)
        .where('c.reminded_at', 'is', null)
        .where('c.sent_at', '<=', new Date(now.getTime() - AFTER_MS))
        .orderBy('c.sent_at')
        .limit(1)
        .forUpdate('c')
        .skipLocked()
        .executeTakeFirst();
      if (!row) return false;
      // Every open wish of this reader is settled by one letter.
      await trx
        .updateTable('confirmations')
        .set({ reminded_at: now })
        .where('reader_id', '=', row.reader_id)
        .where('reminded_at', 'is', null)
        .execute();
      const waiting = await trx
        .selectFrom('memberships as m')
        .innerJoin('lists', 'lists.id', 'm.list_id')
        .select(['lists.id', 'lists.public_name'])
        .where('m.reader_id', '=', row.reader_id)
        .where('m.state', '=', 'waiting')
        .where('m.list_id', 'in', row.list_ids)
        .execute();
      const already = await trx
        .selectFrom('confirmations')
        .select('sent_at')
        .where('reader_id', '=', row.reader_id)
        .whereRef('sent_at', '=', 'reminded_at')
        .executeTakeFirst();
      const definition = row.definition && complete(row.definition);
      if (!definition?.next.reminder || waiting.length === 0 || already || row.address_state !== 'fine' || row.expires_at < now)
        return true;
      const newsletter = { id: row.newsletter_id, name: row.name, slug: row.slug, postal_address: row.postal_address };
      const asked = {
        form: { id: row.form_id!, name: row.form_name!, definition },
        newsletter,
        reader: { id: row.reader_id, address: row.address },
        lists: waiting,
        variant: row.variant,
      };
      const letter = confirmationLetter(ctx, asked, await voiceOf(ctx, trx, newsletter, definition.next.confirmation.senderId));
      // A reminder is the last that comes.
      await trx
        .insertInto('confirmations')
        .values({ ...letter.row, reminded_at: now })
        .execute();
      await post(ctx, trx, letter.mail);
      reminded += 1;
      return true;
    });
    if (!more) break;
  }
  return reminded;
}
