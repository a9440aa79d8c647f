import { sql } from 'kysely';
import { deliveryStatusOf, feedbackOf, sortOf } from '@/core/delivery/came-back';
import { bounceOutcome, namesRecipient, plainFailure, readDeliveryStatus } from '@/core/delivery/dsn';
import type { Outcome } from '@/core/sending/outcome';
import { readDeliveryToken, readMailToken } from '@/core/sending/token';
import { Batch } from '../batch';
import type { Context } from '../context';
import { type Db, inTransaction } from '../db/connection';
import { countLetters } from '../sending/counts';
import { leave } from '../sending/leave';
import { type Said, Taken, tellMailboxes } from '../sending/mailboxes';
import { countReasons } from '../sending/reasons';
import { keepVerdicts } from '../sending/test-letter';
import { takeFeedback } from './feedback';
import { passOn } from './replies';
import type { TakenApart } from './take-apart';

/** What became of a message that came back. */
export type Kept =
  | 'bounce'
  | 'delay'
  | 'feedback'
  | 'leave'
  | 'verdicts'
  | 'reply'
  | 'away'
  | 'challenge'
  | 'receipt'
  | 'nothing';

/** A failure that a notice tells of: of a letter's copy or of a single mail, and what was said of an address. */
type Failure = {
  copy: { sentOn: string; id: string } | null;
  mail: string | null;
  saidOf: (address: string) => Outcome | null;
};

/** Is this local part an address of ours? Asked when it is named, so that nothing vanishes behind a 250. */
export function isReturnAddress(ctx: Pick<Context, 'config'>, local: string): boolean {
  const { keys } = ctx.config;
  const [, kind, token] = /^(b|m|t)-([0-9a-z]+)$/i.exec(local) ?? /^(leave)-([0-9a-z]+)$/i.exec(local) ?? [];
  if (!kind || !token) return false;
  if (kind.toLowerCase() === 'b') return readDeliveryToken(token, 'bounce', keys) !== null;
  if (kind.toLowerCase() === 'm') return readMailToken(token, keys) !== null;
  return kind.toLowerCase() === 't' ? /^[0-9a-f]{32}$/i.test(token) : true;
}

/**
 * What comes to return addresses. `b-TOKEN@` is a letter's copy, `m-TOKEN@` a single mail: of a notice (RFC 3464, or in words) a final failure that names the very
 * recipient marks it, and a dead address is suppressed; a complaint (RFC 5965) does what `feedback` says; a person's words are passed on to the writer; notes of
 * absence, questions whether we are human, receipts and delays change nothing. `leave-TOKEN@` is the mail form of leaving (RFC 2369), for mail that a
 * person wrote; `t-TOKEN@` takes what a test mailbox thought of a letter (RFC 8601). A forged or unknown address is "nothing". Taking the same notice twice
 * changes nothing more. Failures that come together are marked together.
 */
export class Returns {
  readonly #failures: Batch<Failure, boolean>;

  constructor(private readonly ctx: Context) {
    this.#failures = new Batch((failures) => inTransaction(ctx.db, (trx) => mark(ctx, trx, failures)), { most: 200 });
  }

  async take(to: string, { message, original }: TakenApart): Promise<Kept> {
    const { ctx } = this;
    const local = to.slice(0, to.lastIndexOf('@')).toLowerCase();
    const test = /^t-([0-9a-f]{32})$/.exec(local);
    if (test) return (await keepVerdicts(ctx, test[1]!, original)) ? 'verdicts' : 'nothing';
    const sort = sortOf(message);
    const leaving = /^leave-([a-z2-7]+)$/.exec(local);
    if (leaving) {
      if (sort !== 'person') return 'nothing';
      try {
        await leave(ctx, leaving[1]!, { network: 'mail', agent: 'mail to the leave address' }, { purpose: 'leave-mail' });
        return 'leave';
      } catch (error) {
        if ((error as { code?: string }).code === 'not-found') return 'nothing';
        throw error;
      }
    }
    const token = /^[bm]-([a-z2-7]+)$/.exec(local)?.[1] ?? '';
    const ref = local.startsWith('b-') ? readDeliveryToken(token, 'bounce', ctx.config.keys) : null;
    const mail = local.startsWith('m-') ? readMailToken(token, ctx.config.keys) : null;
    if (!ref && !mail) return 'nothing';
    const of = { copy: ref ? { sentOn: ref.sentOn, id: String(ref.id) } : null, mail };
    switch (sort) {
      case 'status': {
        const reports = readDeliveryStatus(deliveryStatusOf(message) ?? '');
        const failed = reports.filter((report) => bounceOutcome(report) !== null);
        if (failed.length === 0) return reports.some(({ action }) => action === 'delayed') ? 'delay' : 'nothing';
        const saidOf = (address: string) => {
          const own = failed.find((report) => namesRecipient(report, address));
          return own ? bounceOutcome(own) : null;
        };
        return (await this.#failures.add({ ...of, saidOf })) ? 'bounce' : 'nothing';
      }
      case 'failure in words': {
        const named = message.headers.get('x-failed-recipients');
        const words = named ? `${named}\n${message.text}` : message.text;
        return (await this.#failures.add({ ...of, saidOf: (address) => plainFailure(words, address) })) ? 'bounce' : 'nothing';
      }
      case 'feedback':
        return (await takeFeedback(ctx, feedbackOf(message) ?? '', original, local)) ? 'feedback' : 'nothing';
      case 'person':
        return (await passOn(ctx, of, message)) ? 'reply' : 'nothing';
      case 'away':
      case 'challenge':
      case 'receipt':
        return sort;
      default:
        return 'nothing';
    }
  }
}

/** Marks failures in one transaction; says of each whether it changed anything. */
async function mark(ctx: Context, trx: Db, failures: Failure[]): Promise<boolean[]> {
  const copies = await markCopies(ctx, trx, failures);
  const mails = await markMails(ctx, trx, failures);
  return failures.map((failure) => copies.has(failure) || mails.has(failure));
}

async function markCopies(ctx: Context, db: Db, failures: Failure[]): Promise<Set<Failure>> {
  const of = failures.filter((failure) => failure.copy !== null);
  if (of.length === 0) return new Set();
  const now = ctx.clock.now();
  const { rows } = await sql<{
    sent_on: string;
    id: string;
    letter_id: string;
    newsletter_id: string;
    reader_id: string;
    domain_id: number;
    address: string;
    state: string;
  }>`
    select sent_on, id, letter_id, newsletter_id, reader_id, domain_id, address, state from deliveries
    where sent_on = any(${[...new Set(of.map(({ copy }) => copy!.sentOn))]}::date[]) and (sent_on, id) in
      (select * from unnest(${of.map(({ copy }) => copy!.sentOn)}::date[], ${of.map(({ copy }) => copy!.id)}::bigint[]))
    order by sent_on, id for update`.execute(db);
  const known = new Map(rows.map((row) => [`${row.sent_on} ${row.id}`, row]));
  const marked = new Set<Failure>();
  const ended: { row: (typeof rows)[number]; outcome: Exclude<Outcome, { kind: 'delivered' }> }[] = [];
  for (const failure of of) {
    const key = `${failure.copy!.sentOn} ${failure.copy!.id}`;
    const row = known.get(key);
    // A notice may overtake the writing of "delivered": then the delivery is still claimed, and stays as we mark it now.
    if (!row || !['delivered', 'claimed', 'queued'].includes(row.state)) continue;
    const outcome = failure.saidOf(row.address);
    if (!outcome || outcome.kind === 'delivered') continue;
    known.delete(key);
    marked.add(failure);
    ended.push({ row, outcome });
  }
  if (ended.length === 0) return marked;
  const stateOf = (outcome: Outcome) => (outcome.kind === 'dead' ? 'bounced' : 'refused');
  await sql`
    update deliveries d set state = n.state, claimed_by = null, response = n.response, reason = n.reason
    from unnest(${ended.map(({ row }) => row.sent_on)}::date[], ${ended.map(({ row }) => row.id)}::bigint[], ${ended.map(({ outcome }) => stateOf(outcome))}::text[],
                ${ended.map(({ outcome }) => outcome.response)}::text[], ${ended.map(({ outcome }) => outcome.reason)}::text[]) as n(sent_on, id, state, response, reason)
    where d.sent_on = any(${[...new Set(ended.map(({ row }) => row.sent_on))]}::date[]) and d.sent_on = n.sent_on and d.id = n.id`.execute(
    db,
  );
  const letter = (row: (typeof rows)[number]) => ({
    newsletterId: row.newsletter_id,
    letterId: row.letter_id,
    domainId: row.domain_id,
  });
  await countLetters(
    db,
    ended.map(({ row, outcome }) => ({
      ...letter(row),
      delivered: row.state === 'delivered' ? -1 : 0,
      [stateOf(outcome)]: 1,
    })),
  );
  await countReasons(
    db,
    now,
    ended.map(({ row, outcome }) => ({ ...letter(row), reason: outcome.reason, ended: 1 })),
  );
  // Who notifies is not the host that refused, so there is no pattern of a route to look for.
  await tellMailboxes(
    ctx,
    db,
    ended.map(({ row, outcome }) => saidTo(row.reader_id, row.newsletter_id, outcome)),
    new Taken(),
  );
  await db
    .insertInto('events')
    .values(
      ended.map(({ row }) => ({
        day: row.sent_on,
        at: now,
        newsletter_id: row.newsletter_id,
        letter_id: row.letter_id,
        delivery_id: row.id,
        reader_id: row.reader_id,
        kind: 'bounce' as const,
      })),
    )
    .execute();
  return marked;
}

const saidTo = (readerId: string, newsletterId: string, outcome: Outcome): Said => ({
  readerId,
  newsletterId,
  routeId: null,
  outcome,
  weight: outcome.kind === 'refused' ? outcome.evidence : 0,
});

async function markMails(ctx: Context, db: Db, failures: Failure[]): Promise<Set<Failure>> {
  const of = failures.filter((failure) => failure.mail !== null);
  const marked = new Set<Failure>();
  if (of.length === 0) return marked;
  const rows = await db
    .selectFrom('mails')
    .select(['id', 'to_address', 'state', 'reader_id', 'newsletter_id'])
    .where(
      'id',
      'in',
      of.map(({ mail }) => mail!),
    )
    .orderBy('id')
    .forUpdate()
    .execute();
  const known = new Map(rows.map((row) => [row.id, row]));
  for (const failure of of) {
    const mail = known.get(failure.mail!);
    if (!mail || !['delivered', 'claimed', 'queued'].includes(mail.state)) continue;
    const outcome = failure.saidOf(mail.to_address);
    if (!outcome) continue;
    known.delete(mail.id);
    marked.add(failure);
    await db
      .updateTable('mails')
      .set({ state: outcome.kind === 'dead' ? 'bounced' : 'refused', claimed_by: null, response: outcome.response })
      .where('id', '=', mail.id)
      .execute();
    if (mail.reader_id && mail.newsletter_id)
      await tellMailboxes(ctx, db, [saidTo(mail.reader_id, mail.newsletter_id, outcome)], new Taken());
  }
  return marked;
}
