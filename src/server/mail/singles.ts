import { randomUUID } from 'node:crypto';
import { type Selectable, sql } from 'kysely';
import { returnPathDomain } from '@/core/senders/records';
import { signatureFields } from '@/core/sending/dkim';
import { compileMime, fillMime, headerBlock } from '@/core/sending/mime';
import { MAIL_LIFE_MS, nextTry } from '@/core/sending/outcome';
import { leaveToken, mailToken, singleName } from '@/core/sending/token';
import { type Notice, renderNotice } from '@/core/writing/notice';
import { SLOT } from '@/core/writing/slots';
import type { Context } from '../context';
import type { Schema } from '../db/schema';
import { installationKey } from './identity';
import { Looks } from './looks';
import type { Made, Parcel, Result, Want } from './parcels';
import type { Express } from './post-office';
import { countRelay, relayRoom } from './relay';
import { signingKeys } from './signing';

type Row = Selectable<Schema['mails']> & { relay: boolean; encrypted: boolean };
export type MailParcel = Parcel & { row: Row };

/** So often something of ours may fail with one mail before it is set aside. */
const MOST_FAULTS = 3;
const FAULT_WAIT_MS = 30_000;
const HOUR = 3_600_000;
/** Some mails are of no use after a while; the others are tried for as long as RFC 5321 section 4.5.4.1 asks. */
const LIVES: Record<string, number> = { account: HOUR, 'test letter': HOUR, 'sender proof': 24 * HOUR, alert: 48 * HOUR };

/**
 * Single mails as a source of the post office: confirmations, proofs, mails of accounts and owners, test letters. What a recipient's server says of
 * one that goes to a reader is told to `onEnd`, in the transaction that writes it.
 */
export class Singles implements Express {
  readonly #looks: Looks;

  constructor(
    private readonly ctx: Context,
    private readonly workerId: string,
    private readonly onEnd: (db: Context['db'], ended: { row: Row; result: Result }[]) => Promise<void>,
  ) {
    this.#looks = new Looks(ctx);
  }

  /** Routes that single mails wait for, with how many: looked up route by route, so that a flood to one hides no other. */
  async waiting(): Promise<{ routeId: number; count: number }[]> {
    const now = this.ctx.clock.now();
    const { rows } = await sql<{ routeId: number; count: number }>`
      with recursive found as (
        (select route_id from mails where state = 'queued' and route_id is not null order by route_id limit 1)
        union all
        select (select m.route_id from mails m where m.state = 'queued' and m.route_id > f.route_id order by m.route_id limit 1) from found f where f.route_id is not null
      )
      select r.id as "routeId", n.count from found f join routes r on r.id = f.route_id
      cross join lateral (select count(*)::int as count, min(due_at) as due from (values (true), (false)) as v(waited_for), lateral
        (select due_at from mails m where m.state = 'queued' and m.route_id = r.id and m.waited_for = v.waited_for and m.due_at <= ${now} order by due_at limit 200) first) n
      where n.count > 0 and (r.paused_until is null or r.paused_until <= ${now}) order by n.due`.execute(this.ctx.db);
    return rows;
  }

  /** Those that somebody waits for first, and of the others no more than there is room for then. */
  async claim(all: Want[]): Promise<MailParcel[]> {
    const wants = await this.#withinLimits(all);
    const { rows } = await sql<Row & { relay_of: string | null }>`
      update mails m set state = 'claimed', claimed_by = ${this.workerId}, left_at = ${this.ctx.clock.now()}
      from (select due.id, w.route_id, r.newsletter_id as relay_of from unnest(${wants.map((one) => one.routeId)}::int[], ${wants.map((one) => one.room)}::int[]) as w(route_id, room)
            join routes r on r.id = w.route_id
            cross join lateral (select id from (values (true), (false)) as v(waited_for), lateral (select id, waited_for from mails
              where route_id = w.route_id and waited_for = v.waited_for and state = 'queued' and due_at <= ${this.ctx.clock.now()} order by due_at limit w.room for update skip locked) few
              order by few.waited_for desc limit w.room) due) mine
      where m.id = mine.id returning m.*, mine.relay_of, coalesce((select n.encrypted_only from newsletters n where n.id = m.newsletter_id), false) as encrypted`.execute(
      this.ctx.db,
    );
    const claimedAt = performance.now();
    return rows
      .sort((a, b) => Number(b.waited_for) - Number(a.waited_for) || a.due_at.getTime() - b.due_at.getTime())
      .map((row) => ({
        id: row.id,
        routeId: row.route_id!,
        source: this,
        encrypted: row.encrypted && row.relay_of === null,
        claimedAt,
        row: { ...row, relay: row.relay_of !== null },
      }));
  }

  /** A relay that has had its fill takes single mails neither: they are due again when its next hour begins. */
  async #withinLimits(wants: Want[]): Promise<Want[]> {
    const relays = await this.ctx.db
      .selectFrom('routes')
      .select(['id', 'newsletter_id'])
      .where('kind', '=', 'relay')
      .where(
        'id',
        'in',
        wants.map((one) => one.routeId),
      )
      .execute();
    const rooms = new Map(wants.map((one) => [one.routeId, one.room]));
    for (const { id, newsletter_id } of relays) {
      const { left, again } = await relayRoom(this.ctx, newsletter_id!, id, 'mails');
      rooms.set(id, Math.min(rooms.get(id)!, left));
      if (left === 0)
        await this.ctx.db
          .updateTable('mails')
          .set({ due_at: again, response: 'Your SMTP service takes no more mail for now' })
          .where('route_id', '=', id)
          .where('state', '=', 'queued')
          .where('due_at', '<=', this.ctx.clock.now())
          .execute();
    }
    return [...rooms].map(([routeId, room]) => ({ routeId, room })).filter(({ room }) => room > 0);
  }

  async stillWanted({ row }: MailParcel): Promise<boolean> {
    const found = await this.ctx.db
      .selectFrom('mails')
      .select('id')
      .where('id', '=', row.id)
      .where('state', '=', 'claimed')
      .where('claimed_by', '=', this.workerId)
      .executeTakeFirst();
    return found !== undefined;
  }

  async make({ row }: MailParcel): Promise<Made> {
    const { ctx } = this;
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
    const back = own ? returnPathDomain(own.domain) : `in.${ctx.config.mailDomain}`;
    const leaving = row.leave && row.reader_id ? { readerId: row.reader_id, delivery: null } : null;
    const leaveUrl = leaving ? `${ctx.config.linkOrigin}/e/leave/${leaveToken(leaving, 'leave', ctx.config.keys)}` : undefined;
    if (row.content.kind === 'gone') throw new Error('this mail has come to an end');
    const words = row.content.kind === 'notice' ? await this.#drawn(row, row.content.notice, leaveUrl) : row.content;
    const template = compileMime(
      { subject: row.subject, html: words.html, text: words.text },
      {
        fromName: row.from_name,
        fromAddress: row.from_address,
        replyTo: row.reply_to ?? undefined,
        automatic: true,
        date: ctx.clock.now(),
        boundary: `ink-${randomUUID()}`,
      },
    );
    const personal = {
      to: row.to_address,
      messageId: `<${singleName(row.id, ctx.config.keys)}@${domain}>`,
      leaveUrl,
      leaveMailto: leaving ? `leave-${leaveToken(leaving, 'leave-mail', ctx.config.keys)}@${back}` : undefined,
    };
    const made = fillMime(template, personal, {
      [SLOT.leave]: ctx.config.webOrigin,
      [SLOT.choices]: ctx.config.webOrigin,
      [SLOT.pixel]: 'data:,',
    });
    const signatures = await signatureFields(made, keys);
    return {
      envelope: { from: `${row.return_local ?? `m-${mailToken(row.id, ctx.config.keys)}`}@${back}`, to: row.to_address },
      message: Buffer.concat([Buffer.from(signatures + headerBlock(made.headers)), made.body]),
    };
  }

  /** What is mailed to readers looks as their newsletter's letters do. */
  async #drawn(row: Row, notice: Notice, leaveUrl: string | undefined): Promise<{ html: string; text: string }> {
    const dress = row.newsletter_id && row.reader_id ? await this.#looks.of(row.newsletter_id) : null;
    return dress ? renderNotice({ ...notice, colour: dress.accent }, leaveUrl, dress.look) : renderNotice(notice, leaveUrl);
  }

  async record(results: Result<MailParcel>[]): Promise<void> {
    const now = this.ctx.clock.now();
    const rows = results.map((result) => this.#row(result, now)).sort((a, b) => (BigInt(a.id) < BigInt(b.id) ? -1 : 1));
    await this.ctx.db.transaction().execute(async (trx) => {
      await sql`select 1 from mails where id = any(${rows.map((row) => row.id)}::bigint[]) order by id for update`.execute(trx);
      const { rows: written } = await sql<{ id: string }>`
        update mails m set state = r.state, attempts = m.attempts + r.tried, faults = m.faults + r.faulty, claimed_by = null, due_at = r.due_at, response = coalesce(r.response, m.response),
          delivered_at = case when r.state = 'delivered' then ${now}::timestamptz else m.delivered_at end
        from unnest(${rows.map((row) => row.id)}::bigint[], ${rows.map((row) => row.state)}::text[], ${rows.map((row) => row.tried)}::int[], ${rows.map((row) => row.faulty)}::int[],
                    ${rows.map((row) => row.due)}::timestamptz[], ${rows.map((row) => row.response)}::text[]) as r(id, state, tried, faulty, due_at, response)
        where m.id = r.id and (m.state = 'queued' or (m.state = 'claimed' and m.claimed_by = ${this.workerId})) returning m.id`.execute(
        trx,
      );
      const kept = new Set(written.map(({ id }) => id));
      const ended = results.filter(
        ({ parcel, ending }) => kept.has(parcel.id) && ending.kind !== 'put back' && ending.kind !== 'fault',
      );
      await this.onEnd(
        trx,
        ended.map((result) => ({ row: result.parcel.row, result })),
      );
      const over = new Map<string, number>();
      for (const { parcel, ending } of ended)
        if (parcel.row.relay && ending.kind === 'delivered')
          over.set(parcel.row.newsletter_id!, (over.get(parcel.row.newsletter_id!) ?? 0) + 1);
      for (const [newsletterId, mails] of [...over].sort()) await countRelay(this.ctx, trx, newsletterId, mails);
    });
    for (const row of rows)
      if (!['delivered', 'queued'].includes(row.state))
        this.ctx.log.warn({ mail: row.id, state: row.state, response: row.response }, 'a single mail did not go');
  }

  #row({ parcel, ending }: Result<MailParcel>, now: Date) {
    const { row } = parcel;
    const stays = {
      id: row.id,
      tried: 0,
      faulty: 0,
      due: row.due_at as Date,
      response: 'response' in ending ? ending.response : null,
    };
    const again = (): { state: string; tried: number; due: Date } => {
      const next = nextTry(row.attempts + 1, row.created_at, now, LIVES[row.kind] ?? MAIL_LIFE_MS);
      return { state: next ? 'queued' : 'given up', tried: 1, due: next ?? row.due_at };
    };
    switch (ending.kind) {
      case 'delivered':
        return { ...stays, state: 'delivered', tried: 1 };
      case 'dead':
        return { ...stays, state: 'bounced', tried: 1 };
      case 'refused':
        return { ...stays, state: 'refused', tried: 1 };
      case 'later':
      case 'in doubt':
        return { ...stays, ...again() };
      case 'put back': {
        // The way's fault; but nobody waits for a mail for ever.
        const old = ending.reason !== null && now.getTime() - row.created_at.getTime() >= (LIVES[row.kind] ?? MAIL_LIFE_MS);
        return {
          ...stays,
          state: old ? 'given up' : 'queued',
          due: new Date(now.getTime() + ending.waitMs),
          response: ending.reason,
        };
      }
      case 'fault': {
        const aside = row.faults + 1 >= MOST_FAULTS;
        return { ...stays, state: aside ? 'aside' : 'queued', faulty: 1, due: new Date(now.getTime() + FAULT_WAIT_MS) };
      }
    }
  }

  async setAside(parcel: MailParcel, reason: string): Promise<void> {
    await this.ctx.db
      .updateTable('mails')
      .set({ state: 'aside', claimed_by: null, response: reason.replace(/[^\x20-\x7e]/g, '?').slice(0, 300) })
      .where('id', '=', parcel.id)
      .execute();
  }

  async reclaim(inHand: string[]): Promise<number> {
    const result = await this.ctx.db
      .updateTable('mails')
      .set({ state: 'queued', claimed_by: null })
      .where('state', '=', 'claimed')
      .where('claimed_by', '=', this.workerId)
      .where(sql<boolean>`id <> all(${inHand}::bigint[])`)
      .executeTakeFirst();
    return Number(result.numUpdatedRows);
  }
}
