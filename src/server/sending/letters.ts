import { type Selectable, sql } from 'kysely';
import { Fault } from '@/core/faults';
import type { Document } from '@/core/writing/document';
import { type LetterFrame, renderHtml, takeLinks } from '@/core/writing/render';
import { renderText } from '@/core/writing/text';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import type { Schema } from '../db/schema';
import { spreadByRamp } from '../delivery/ramp';
import { newId } from '../ids';
import { relayRoute } from '../mail/relay';
import { logoUrl } from '../newsletters/media';
import { freshenFor } from '../senders/domains';

export type NewLetter = {
  newsletterId: string;
  autoSendId: string | null;
  listId: string;
  senderId: string;
  subject: string;
  previewLine: string;
  document: Document;
  dueAt: Date;
};

/** Puts a letter on the runway, in the caller's transaction. It leaves by itself once it is due. */
export async function scheduleLetter(ctx: Context, db: Db, letter: NewLetter): Promise<string> {
  const id = newId();
  await db
    .insertInto('letters')
    .values({
      id,
      newsletter_id: letter.newsletterId,
      auto_send_id: letter.autoSendId,
      list_id: letter.listId,
      sender_id: letter.senderId,
      title: letter.subject,
      subject: letter.subject,
      preview_line: letter.previewLine,
      document: JSON.stringify(letter.document),
      state: 'due',
      due_at: letter.dueAt,
      created_at: ctx.clock.now(),
    })
    .execute();
  await db.insertInto('letter_counts').values({ letter_id: id, newsletter_id: letter.newsletterId }).execute();
  return id;
}

/** Gives a letter that has not left yet another sender: any confirmed one of the newsletter's. A letter held for its sender is looked at again at once. */
export async function chooseSender(ctx: Context, newsletter: Newsletter, id: string, senderId: unknown): Promise<void> {
  const sender = await ctx.db
    .selectFrom('senders')
    .select(['id', 'address', 'confirmed_at'])
    .where('newsletter_id', '=', newsletter.id)
    .where(sql<boolean>`id::text = ${String(senderId ?? '')}`)
    .executeTakeFirst();
  if (!sender) throw new Fault('invalid', 'Choose a sender.', { senderId: 'Choose a sender.' });
  if (!sender.confirmed_at)
    throw new Fault('conflict', `${sender.address} is not confirmed yet, so it cannot send. Nothing was changed.`);
  const result = await ctx.db
    .updateTable('letters')
    .set((eb) => ({
      sender_id: sender.id,
      due_at: eb.case().when('fault', 'is not', null).then(ctx.clock.now()).else(eb.ref('due_at')).end(),
      fault: null,
    }))
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', id)
    .where('state', '=', 'due')
    .executeTakeFirst();
  if (result.numUpdatedRows === 0n) throw new Fault('conflict', 'This letter has left already; its sender stays.');
}

/** Has the domain of a letter that is about to leave checked anew unless that was just done, so that a record that broke is seen before. */
export async function freshenDomain(ctx: Context, id: string): Promise<void> {
  const letter = await ctx.db
    .selectFrom('letters as l')
    .innerJoin('senders as s', 's.id', 'l.sender_id')
    .select(['l.newsletter_id', 's.domain'])
    .where('l.id', '=', id)
    .where('l.state', '=', 'due')
    .executeTakeFirst();
  if (letter) await freshenFor(ctx, letter.newsletter_id, letter.domain);
}

/** How long a letter that may not leave yet waits before it is tried again. */
const HOLD_MINUTES = 5;

/**
 * Starts a due letter: renders it once, fixes its recipients in one statement, and marks it sending, all in one transaction,
 * so that a crash leaves it due or started, never between. A letter whose sender or domain may not send is held with the
 * reason and tried again; nothing is lost. Safe to call twice.
 */
export async function startLetter(ctx: Context, id: string): Promise<void> {
  const now = ctx.clock.now();
  await ctx.db.transaction().execute(async (trx) => {
    const letter = await trx
      .selectFrom('letters')
      .selectAll()
      .where('id', '=', id)
      .where('state', '=', 'due')
      .where('due_at', '<=', now)
      .forUpdate()
      .skipLocked()
      .executeTakeFirst();
    if (!letter) return;
    const newsletter = await trx
      .selectFrom('newsletters')
      .selectAll()
      .where('id', '=', letter.newsletter_id)
      .executeTakeFirstOrThrow();
    const sender = await trx.selectFrom('senders').selectAll().where('id', '=', letter.sender_id).executeTakeFirst();
    const domain = sender
      ? await trx
          .selectFrom('domains')
          .select(['id', 'state', 'name', 'ramp'])
          .where('newsletter_id', '=', newsletter.id)
          .where('name', '=', sender.domain)
          .executeTakeFirst()
      : undefined;
    const hold = holdReason(sender, domain);
    if (hold) {
      await trx
        .updateTable('letters')
        .set({ fault: hold, due_at: new Date(now.getTime() + HOLD_MINUTES * 60_000) })
        .where('id', '=', id)
        .execute();
      ctx.log.warn({ letter: id, reason: hold }, 'a letter is held');
      return;
    }
    const frame = {
      ...frameOf(ctx, newsletter),
      previewLine: letter.preview_line,
    };
    const { html, links } = takeLinks(await renderHtml(letter.document, frame));
    const sentOn = now.toISOString().slice(0, 10);
    await sql`select ensure_month(${sentOn}::date)`.execute(trx);
    if (links.length) {
      await trx
        .insertInto('letter_links')
        .values(links.map((url, position) => ({ letter_id: id, position, url })))
        .execute();
    }
    const relay = await trx
      .selectFrom('relays')
      .select('switched_on')
      .where('newsletter_id', '=', newsletter.id)
      .where('switched_on', '=', true)
      .executeTakeFirst();
    const recipients = await fixRecipients(trx, {
      letterId: id,
      newsletterId: newsletter.id,
      listId: letter.list_id!,
      sentOn,
      now,
      route: relay ? relayRoute(newsletter.id) : null,
    });
    if (domain!.ramp)
      await spreadByRamp(trx, {
        letterId: id,
        domainId: domain!.id,
        ramp: domain!.ramp,
        zone: newsletter.time_zone,
        sentOn,
        now,
        recipients,
      });
    await trx.updateTable('letter_counts').set({ recipients }).where('letter_id', '=', id).execute();
    await trx
      .updateTable('letters')
      .set({
        state: 'sending',
        started_at: now,
        sent_on: sentOn,
        html,
        text: renderText(letter.document, frame),
        from_name: sender!.name,
        from_address: sender!.address,
        reply_to: sender!.reply_to,
        domain_id: domain!.id,
        fault: null,
      })
      .where('id', '=', id)
      .execute();
    ctx.log.info({ letter: id, recipients }, 'a letter starts');
  });
}

/** What every letter of a newsletter is framed by. */
export function frameOf(ctx: Context, newsletter: Newsletter): Omit<LetterFrame, 'previewLine'> {
  return {
    brand: {
      name: newsletter.name,
      colour: newsletter.accent,
      language: newsletter.language,
      logo: logoUrl(ctx, newsletter),
      links: newsletter.social_links,
    },
    colophon: { reasonLine: newsletter.reason_line, postalAddress: newsletter.postal_address },
  };
}

function holdReason(
  sender: { confirmed_at: Date | null; address: string } | undefined,
  domain: { state: string; name: string } | undefined,
): string | null {
  if (!sender) return 'Its sender was removed. Choose another one.';
  if (!sender.confirmed_at) return `${sender.address} is not confirmed yet. Click the link that was mailed to it.`;
  const name = sender.address.slice(sender.address.lastIndexOf('@') + 1);
  if (!domain) return `${name} is not one of your domains. Add it, so that letters can be signed.`;
  if (domain.state !== 'authenticated')
    return `The records of ${domain.name} are not all right. The letter leaves once they are.`;
  return null;
}

/**
 * Who gets a letter, fixed by one INSERT … SELECT: everyone reading its list, each address once, without those that
 * cannot be reached or must not be written to. Suppression beats every selection. Returns how many.
 */
async function fixRecipients(
  db: Db,
  to: { letterId: string; newsletterId: string; listId: string; sentOn: string; now: Date; route: string | null },
): Promise<number> {
  const result = await db
    .insertInto('deliveries')
    .columns(['sent_on', 'newsletter_id', 'letter_id', 'reader_id', 'address', 'provider', 'route', 'due_at'])
    .expression((eb) =>
      eb
        .selectFrom('memberships as m')
        .innerJoin('readers as r', 'r.id', 'm.reader_id')
        .distinctOn('r.address_key')
        .select([
          sql<string>`${to.sentOn}::date`.as('sent_on'),
          'r.newsletter_id',
          sql<string>`${to.letterId}::uuid`.as('letter_id'),
          'r.id',
          'r.address',
          'r.provider',
          sql<string>`coalesce(${to.route}::text, r.provider)`.as('route'),
          sql<Date>`${to.now}::timestamptz`.as('due_at'),
        ])
        .where('m.list_id', '=', to.listId)
        .where('m.newsletter_id', '=', to.newsletterId)
        .where('m.state', '=', 'reading')
        .where('r.trial_id', 'is', null)
        .where('r.address_state', '=', 'fine')
        .where(({ not, exists, selectFrom }) =>
          not(
            exists(
              selectFrom('suppressions as s')
                .select('s.address_key')
                .whereRef('s.newsletter_id', '=', 'r.newsletter_id')
                .whereRef('s.address_key', '=', 'r.address_key'),
            ),
          ),
        ),
    )
    .executeTakeFirst();
  return Number(result.numInsertedOrUpdatedRows ?? 0);
}

/** Marks letters as sent that have nothing left to send. */
export async function finishLetters(ctx: Context): Promise<void> {
  await ctx.db
    .updateTable('letters')
    .set({ state: 'sent', finished_at: ctx.clock.now() })
    .where('state', '=', 'sending')
    .where(({ not, exists, selectFrom }) =>
      not(
        exists(
          selectFrom('deliveries as d')
            .select('d.id')
            .whereRef('d.letter_id', '=', 'letters.id')
            .whereRef('d.sent_on', '=', 'letters.sent_on')
            .where('d.state', 'in', ['queued', 'claimed']),
        ),
      ),
    )
    .execute();
}

export type LetterRow = {
  id: string;
  subject: string;
  state: 'due' | 'sending' | 'sent';
  dueAt: Date;
  startedAt: Date | null;
  fault: string | null;
  counts: {
    recipients: number;
    delivered: number;
    bounced: number;
    refused: number;
    people: number;
    machines: number;
    clicked: number;
    left: number;
    complained: number;
  };
};

const letterQuery = (ctx: Context, newsletter: Newsletter) =>
  ctx.db
    .selectFrom('letters as l')
    .innerJoin('letter_counts as c', 'c.letter_id', 'l.id')
    .where('l.newsletter_id', '=', newsletter.id);

const LETTER_COLUMNS = [
  'l.id',
  'l.subject',
  'l.state',
  'l.due_at',
  'l.started_at',
  'l.fault',
  'c.recipients',
  'c.delivered',
  'c.bounced',
  'c.refused',
  'c.opened_people',
  'c.opened_machines',
  'c.clicked',
  'c.left_count',
  'c.complained',
] as const;

/** A newsletter's letters, the latest first. */
export async function lettersOf(ctx: Context, newsletter: Newsletter, most = 200): Promise<LetterRow[]> {
  const rows = await letterQuery(ctx, newsletter).select(LETTER_COLUMNS).orderBy('l.due_at', 'desc').limit(most).execute();
  return rows.map(letterRow);
}

export type LetterDetail = LetterRow & {
  previewLine: string;
  senderId: string | null;
  from: string | null;
  html: string | null;
  text: string | null;
  links: { url: string; clicks: number }[];
  providers: { provider: string; recipients: number; delivered: number; bounced: number; waiting: number }[];
  problems: { address: string; response: string | null; state: string }[];
};

/** One letter with its links, its way by mailbox provider, and what went wrong. */
export async function letterOf(ctx: Context, newsletter: Newsletter, id: string): Promise<LetterDetail> {
  const row = await letterQuery(ctx, newsletter)
    .select([
      ...LETTER_COLUMNS,
      'l.preview_line',
      'l.sender_id',
      'l.from_name',
      'l.from_address',
      'l.html',
      'l.text',
      'l.sent_on',
    ])
    .where(sql<boolean>`l.id::text = ${id}`)
    .executeTakeFirst();
  if (!row) throw new Fault('not-found', 'There is no such letter.');
  const links = await ctx.db
    .selectFrom('letter_links')
    .select(['url', 'clicks'])
    .where('letter_id', '=', row.id)
    .orderBy('clicks', 'desc')
    .limit(20)
    .execute();
  const own = ctx.db
    .selectFrom('deliveries')
    .where('letter_id', '=', row.id)
    .where('sent_on', '=', row.sent_on ?? '1970-01-01');
  const providers = await own
    .groupBy('provider')
    .select(['provider', sql<number>`count(*)::int`.as('recipients')])
    .select(sql<number>`count(*) filter (where state = 'delivered')::int`.as('delivered'))
    .select(sql<number>`count(*) filter (where state in ('bounced', 'refused'))::int`.as('bounced'))
    .select(sql<number>`count(*) filter (where state in ('queued', 'claimed'))::int`.as('waiting'))
    .orderBy('recipients', 'desc')
    .limit(12)
    .execute();
  const problems = await own
    .select(['address', 'response', 'state'])
    .where((eb) =>
      eb.or([eb('state', 'in', ['bounced', 'refused']), eb.and([eb('state', '=', 'queued'), eb('attempts', '>', 0)])]),
    )
    .limit(50)
    .execute();
  return {
    ...letterRow(row),
    previewLine: row.preview_line,
    senderId: row.sender_id,
    from: row.from_address ? `${row.from_name} <${row.from_address}>` : null,
    html: row.html,
    text: row.text,
    links,
    providers,
    problems,
  };
}

type RawLetter = Pick<Selectable<Schema['letters']>, 'id' | 'subject' | 'state' | 'due_at' | 'started_at' | 'fault'> &
  Omit<Selectable<Schema['letter_counts']>, 'letter_id' | 'newsletter_id'>;

function letterRow(row: RawLetter): LetterRow {
  return {
    id: row.id,
    subject: row.subject,
    state: row.state,
    dueAt: row.due_at,
    startedAt: row.started_at,
    fault: row.fault,
    counts: {
      recipients: row.recipients,
      delivered: row.delivered,
      bounced: row.bounced,
      refused: row.refused,
      people: row.opened_people,
      machines: row.opened_machines,
      clicked: row.clicked,
      left: row.left_count,
      complained: row.complained,
    },
  };
}
