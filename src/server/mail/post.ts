import type { Notice } from '@/core/writing/notice';
import type { Context } from '../context';
import type { Db } from '../db/connection';
import { insertRows } from '../db/rows';
import type { MailContent } from '../db/schema';

export type MailKind =
  | 'account'
  | 'sender proof'
  | 'confirmation'
  | 'invitation'
  | 'alert'
  | 'records'
  | 'welcome'
  | 'test letter'
  | 'file'
  | 'reply';
/** Somebody sits and waits for these; the others may come a little later. */
const WAITED_FOR: ReadonlySet<MailKind> = new Set([
  'account',
  'sender proof',
  'confirmation',
  'invitation',
  'records',
  'test letter',
  'file',
]);

export type SingleMail = {
  newsletterId: string | null;
  kind: MailKind;
  /** Whom it is about, where it goes to a reader. */
  readerId?: string;
  from?: { name: string; address: string; replyTo?: string | null };
  to: string;
  subject: string;
  /** What it says; made into HTML and text when it leaves. */
  notice?: Notice;
  /** Instead of a notice: a letter that is rendered already. */
  rendered?: { html: string; text: string };
  /** Carries a leave link of its reader and the fields of one-click leaving. */
  leave?: boolean;
  /** The local part of its return path, where the mail is not named by its own. */
  returnLocal?: string;
};

const COLUMNS = [
  'newsletter_id',
  'reader_id',
  'kind',
  'waited_for',
  'from_name',
  'from_address',
  'reply_to',
  'return_local',
  'to_address',
  'subject',
  'content',
  'leave',
  'due_at',
  'created_at',
] as const;

/** Puts mails on their way, in the caller's transaction: once that commits, they are as durable as their cause. Returns their numbers in order. */
export async function postAll(ctx: Context, db: Db, mails: SingleMail[]): Promise<string[]> {
  if (mails.length === 0) return [];
  const now = ctx.clock.now();
  const rows = mails.map((mail) => ({
    newsletter_id: mail.newsletterId,
    reader_id: mail.readerId ?? null,
    kind: mail.kind,
    waited_for: WAITED_FOR.has(mail.kind),
    from_name: mail.from?.name ?? 'Inkset',
    from_address: mail.from?.address ?? `hello@${ctx.config.mailDomain}`,
    reply_to: mail.from?.replyTo ?? null,
    return_local: mail.returnLocal ?? null,
    to_address: mail.to,
    subject: mail.subject,
    content: contentOf(mail),
    leave: mail.leave ?? false,
    state: 'queued',
    due_at: now,
    created_at: now,
  }));
  const { rows: kept } = await insertRows('mails', COLUMNS, rows, 'id').execute(db);
  return (kept as { id: string }[]).map(({ id }) => id);
}

const contentOf = (mail: SingleMail): MailContent =>
  mail.rendered ? { kind: 'rendered', ...mail.rendered } : { kind: 'notice', notice: mail.notice! };

/** Puts one mail on its way, in the caller's transaction. Returns its number. */
export const post = async (ctx: Context, db: Db, mail: SingleMail): Promise<string> => (await postAll(ctx, db, [mail]))[0]!;
