import { randomUUID } from 'node:crypto';
import { sql } from 'kysely';
import { returnPathDomain } from '@/core/senders/records';
import { signatureFields } from '@/core/sending/dkim';
import { compileMime, fillMime, headerBlock } from '@/core/sending/mime';
import { nextTry, type Outcome } from '@/core/sending/outcome';
import { type Notice, renderNotice } from '@/core/writing/notice';
import type { Context } from '../context';
import type { Db } from '../db/connection';
import { insertRows } from '../db/rows';
import { signingKeys } from '../senders/keys';
import { installationKey } from './identity';
import { NoRoute, openLine } from './routes';
import { LineDown } from './smtp';

export type SingleMail = {
  newsletterId: string | null;
  kind: 'account' | 'sender proof' | 'confirmation' | 'invitation' | 'alert' | 'welcome';
  /** Whom it is about, where it goes to a reader. */
  readerId?: string;
  from?: { name: string; address: string; replyTo?: string | null };
  to: string;
  subject: string;
  /** What it says; made into HTML and text when it leaves. */
  notice: Notice;
  leaveUrl?: string;
};

const COLUMNS = [
  'newsletter_id',
  'reader_id',
  'kind',
  'from_name',
  'from_address',
  'reply_to',
  'to_address',
  'subject',
  'notice',
  'leave_url',
  'due_at',
  'created_at',
] as const;

/** Puts mails on their way, in the caller's transaction: once that commits, they are as durable as their cause. */
export async function postAll(ctx: Context, db: Db, mails: SingleMail[]): Promise<void> {
  if (mails.length === 0) return;
  const now = ctx.clock.now();
  const rows = mails.map((mail) => ({
    newsletter_id: mail.newsletterId,
    reader_id: mail.readerId ?? null,
    kind: mail.kind,
    from_name: mail.from?.name ?? 'Inkset',
    from_address: mail.from?.address ?? `hello@${ctx.config.mailDomain}`,
    reply_to: mail.from?.replyTo ?? null,
    to_address: mail.to,
    subject: mail.subject,
    notice: mail.notice,
    leave_url: mail.leaveUrl ?? null,
    due_at: now,
    created_at: now,
  }));
  await insertRows('outbox', COLUMNS, rows).execute(db);
}

/** Puts one mail on its way, in the caller's transaction. */
export const post = (ctx: Context, db: Db, mail: SingleMail): Promise<void> => postAll(ctx, db, [mail]);

/**
 * Hands over what is due, a row at a time under its row lock: a crash leaves the row queued, and a second worker skips it.
 * Returns how many were handled.
 */
export async function emptyOutbox(ctx: Context, most = 100): Promise<number> {
  for (let handled = 0; handled < most; handled += 1) {
    const more = await ctx.db.transaction().execute(async (trx) => {
      const row = await trx
        .selectFrom('outbox')
        .selectAll()
        .where('state', '=', 'queued')
        .where('due_at', '<=', ctx.clock.now())
        .orderBy('due_at')
        .limit(1)
        .forUpdate()
        .skipLocked()
        .executeTakeFirst();
      if (!row) return false;
      const leftAt = ctx.clock.now();
      const outcome = await handOver(ctx, row);
      const again = outcome.kind === 'later' ? nextTry(row.attempts + 1, ctx.clock.now()) : null;
      const state = outcome.kind === 'delivered' ? 'sent' : again ? 'queued' : 'failed';
      await trx
        .updateTable('outbox')
        .set({
          state,
          attempts: sql`attempts + 1`,
          due_at: again ?? row.due_at,
          response: outcome.response,
          left_at: leftAt,
          sent_at: state === 'sent' ? ctx.clock.now() : null,
        })
        .where('id', '=', row.id)
        .execute();
      if (state !== 'sent')
        ctx.log.warn(
          { mail: row.id, kind: row.kind, outcome: outcome.kind, response: outcome.response },
          'a single mail did not go',
        );
      return true;
    });
    if (!more) return handled;
  }
  return most;
}

type Row = {
  id: string;
  newsletter_id: string | null;
  from_name: string;
  from_address: string;
  reply_to: string | null;
  to_address: string;
  subject: string;
  notice: Notice;
  leave_url: string | null;
};

async function handOver(ctx: Context, row: Row): Promise<Outcome> {
  const fromDomain = row.from_address.slice(row.from_address.lastIndexOf('@') + 1);
  const own = row.newsletter_id
    ? await ctx.db
        .selectFrom('domains')
        .select(['id', 'name as domain'])
        .where('newsletter_id', '=', row.newsletter_id)
        .where('name', '=', fromDomain)
        .executeTakeFirst()
    : undefined;
  const keys = own ? await signingKeys(ctx, own.id) : [await installationKey(ctx)];
  const domain = own?.domain ?? ctx.config.mailDomain;
  const template = compileMime(
    { subject: row.subject, ...renderNotice(row.notice) },
    {
      fromName: row.from_name,
      fromAddress: row.from_address,
      replyTo: row.reply_to ?? undefined,
      date: ctx.clock.now(),
      boundary: `ink-${randomUUID()}`,
    },
  );
  const personal = { to: row.to_address, messageId: `<m.${row.id}@${domain}>`, leaveUrl: row.leave_url ?? undefined };
  const { headers, body } = fillMime(template, personal, {});
  const signatures = await signatureFields(headers, body, keys);
  const message = Buffer.concat([Buffer.from(signatures + headerBlock(headers)), body]);
  const returnPath = own ? `m-${row.id}@${returnPathDomain(own.domain)}` : `m-${row.id}@in.${ctx.config.mailDomain}`;
  try {
    const line = await openLine(ctx, row.to_address.slice(row.to_address.lastIndexOf('@') + 1));
    const outcome = await line.send({ from: returnPath, to: row.to_address }, message);
    line.close();
    return outcome;
  } catch (error) {
    if (error instanceof NoRoute) return { kind: 'dead', response: error.message };
    if (error instanceof LineDown) return { kind: 'later', response: error.message };
    throw error;
  }
}
