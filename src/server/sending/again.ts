import { Fault } from '@/core/faults';
import { onlyUnread } from '@/core/sending/audience';
import { oneLine } from '@/core/writing/line';
import type { Context, Newsletter } from '../context';
import { discardLetter, duplicateLetter } from './drafts';

/* A letter once more, to those who did not read it: once, with another subject, and never to anybody whose reading cannot be seen. */

type Again = { can: true } | { can: false; why: string; letter: string | null };

/** May a letter be sent again to those who did not read it? */
export async function againOf(ctx: Context, newsletter: Newsletter, id: string): Promise<Again> {
  const row = await ctx.db
    .selectFrom('letters as l')
    .leftJoin('letters as a', 'a.again_of', 'l.id')
    .select(['l.state', 'l.audience', 'l.counts_opens', 'l.again_of', 'l.post_id', 'a.id as again'])
    .where('l.newsletter_id', '=', newsletter.id)
    .where('l.id', '=', id)
    .executeTakeFirst();
  const no = (why: string, letter: string | null = null): Again => ({ can: false, why, letter });
  if (row?.state !== 'sent') return no('It is sent again once it has left whole.');
  if (row.again) return no('It was sent again already, or is about to be.', row.again);
  if (row.again_of) return no('It is itself a letter sent again. Nobody gets one a third time.', row.again_of);
  if (!row.counts_opens) return no('Its openings were not counted, so that nobody knows who did not read it.');
  if (!row.post_id) return no('Its words were deleted.');
  return { can: true };
}

/**
 * Begins a letter with the same words and another subject, for those of a letter's readers who got it and have not opened it, as far as that can be seen
 * when it leaves. It has no page of its own. Throws "invalid" for the same subject and "conflict" where it may not be, or was already.
 */
export async function sendAgain(
  ctx: Context,
  newsletter: Newsletter,
  id: string,
  raw: { subject: unknown },
): Promise<{ id: string }> {
  const subject = oneLine(String(raw.subject ?? '')).trim();
  const may = await againOf(ctx, newsletter, id);
  if (!may.can) throw new Fault('conflict', may.why);
  if (!subject) throw new Fault('invalid', 'Give it another subject.', { subject: 'Give it another subject.' });
  if (subject.length > 200)
    throw new Fault('invalid', 'The subject is longer than 200 characters.', { subject: 'At most 200 characters.' });
  const from = await ctx.db
    .selectFrom('letters as l')
    .innerJoin('posts as p', 'p.id', 'l.post_id')
    .select(['l.subject', 'l.audience', 'p.title'])
    .where('l.newsletter_id', '=', newsletter.id)
    .where('l.id', '=', id)
    .executeTakeFirstOrThrow();
  if (subject.toLowerCase() === from.subject.trim().toLowerCase())
    throw new Fault('invalid', 'That is the subject they did not open. Give it another one.', {
      subject: 'It had this subject.',
    });
  const made = await duplicateLetter(ctx, newsletter, id);
  try {
    await ctx.db.transaction().execute(async (trx) => {
      const letter = await trx
        .updateTable('letters')
        .set({ subject, own_subject: true, audience: JSON.stringify(onlyUnread(from.audience, id)), again_of: id })
        .where('id', '=', made.id)
        .returning('post_id')
        .executeTakeFirstOrThrow();
      await trx.updateTable('posts').set({ title: from.title, goes: 'letter' }).where('id', '=', letter.post_id).execute();
    });
  } catch (error) {
    // Somebody else was quicker: there is one already.
    await discardLetter(ctx, newsletter, made.id);
    if ((error as { code?: string }).code === '23505')
      throw new Fault('conflict', 'It is being sent again already. Nothing was made twice.');
    throw error;
  }
  return made;
}
