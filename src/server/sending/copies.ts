import { sql } from 'kysely';
import { type Reason, reasonOfWay } from '@/core/delivery/reason';
import { LETTER_LIFE_MS, nextTry } from '@/core/sending/outcome';
import { dealTurns, STRIDE } from '@/core/sending/turns';
import type { Context } from '../context';
import type { Db } from '../db/connection';
import type { Ending, Made, Parcel, Result, Source, Want } from '../mail/parcels';
import { countRelay, relayRoom } from '../mail/relay';
import { fillRoute } from '../mail/routes';
import { countLetters, type LetterChange } from './counts';
import { fade, type Said, type Taken, tellMailboxes } from './mailboxes';
import { messageFor, type Prepared, prepare } from './prepared';
import { countReasons } from './reasons';

type Row = {
  id: string;
  sent_on: string;
  letter_id: string;
  newsletter_id: string;
  reader_id: string;
  address: string;
  domain_id: number;
  route_id: number;
  variant: number;
  chips: Record<string, string> | null;
  text_alone: boolean;
  attempts: number;
  faults: number;
  tried_at: Date;
  due_at: Date;
  encrypted: boolean;
};
export type Copy = Parcel & { row: Row; relay: boolean };

const MOST_FAULTS = 3;
const FAULT_WAIT_MS = 60_000;
const MOST_KEPT = 200;
/** Against a mailbox that was full or put us off for two days. */
const GIVEN_UP_WEIGHT = 1;

/** Letters as a source of the post office: their deliveries, claimed letter by letter in turn on each route. */
export class Copies implements Source {
  readonly #letters = new Map<string, Promise<Prepared>>();
  constructor(
    private readonly ctx: Context,
    private readonly workerId: string,
    private readonly taken: Taken,
  ) {}

  async claim(wants: Want[]): Promise<Copy[]> {
    const now = this.ctx.clock.now();
    const { rows: relays } = await sql<{ id: number; newsletter_id: string }>`
      select id, newsletter_id from routes where id = any(${wants.map((one) => one.routeId)}::int[]) and kind = 'relay'`.execute(
      this.ctx.db,
    );
    const rooms = new Map(wants.map((one) => [one.routeId, one.room]));
    for (const relay of relays) {
      const { left, again } = await relayRoom(this.ctx, relay.newsletter_id, relay.id, 'letters');
      if (left === 0) await fillRoute(this.ctx, relay.id, again);
      rooms.set(relay.id, Math.min(rooms.get(relay.id)!, left));
    }
    const claimed = await this.ctx.db.transaction().execute(async (trx) => {
      const { rows: jobs } = await sql<{
        route_id: number;
        letter_id: string;
        newsletter_id: string;
        sent_on: string;
        turn: number;
      }>`
        select route_id, letter_id, newsletter_id, sent_on, turn from route_jobs
        where route_id = any(${wants.map((one) => one.routeId)}::int[]) and next_due <= ${now} and not resting order by route_id, letter_id for update`.execute(
        trx,
      );
      const shares = wants.flatMap(({ routeId }) => {
        const waiting = jobs.filter((job) => job.route_id === routeId);
        const dealt = dealTurns(
          waiting.map((job) => ({ letterId: job.letter_id, newsletterId: job.newsletter_id, turn: job.turn })),
          rooms.get(routeId) ?? 0,
        );
        return dealt.map((share) => ({
          ...share,
          routeId,
          sentOn: waiting.find((job) => job.letter_id === share.letterId)!.sent_on,
        }));
      });
      if (shares.length === 0) return [];
      // First the locks, letter by letter along the index; then the rows by their keys.
      const { rows: picked } = await sql<{ sent_on: string; id: string }>`
        select d.sent_on, d.id from unnest(${shares.map((one) => one.routeId)}::int[], ${shares.map((one) => one.letterId)}::uuid[],
          ${shares.map((one) => one.sentOn)}::date[], ${shares.map((one) => one.count)}::int[]) as w(route_id, letter_id, sent_on, count)
        cross join lateral (select sent_on, id from deliveries where letter_id = w.letter_id and sent_on = w.sent_on and route_id = w.route_id
          and state = 'queued' and due_at <= ${now} order by due_at, id limit w.count for update skip locked) d`.execute(trx);
      const { rows } = await sql<Row & { fine: boolean | null }>`
        update deliveries d set state = 'claimed', claimed_by = ${this.workerId}, tried_at = coalesce(d.tried_at, ${now}::timestamptz)
        where d.sent_on = any(${[...new Set(picked.map((row) => row.sent_on))]}::date[]) and (d.sent_on, d.id) in
          (select * from unnest(${picked.map((row) => row.sent_on)}::date[], ${picked.map((row) => row.id)}::bigint[]))
        returning d.id, d.sent_on, d.letter_id, d.newsletter_id, d.reader_id, d.address, d.domain_id, d.route_id, d.variant, d.chips, d.attempts, d.faults, d.tried_at, d.due_at,
          (select n.encrypted_only from newsletters n where n.id = d.newsletter_id) as encrypted,
          (select r.address_state = 'fine' and r.lists_reading > 0 and (r.paused_until is null or r.paused_until <= ${now}::timestamptz) from readers r where r.id = d.reader_id) as fine,
          (select r.text_alone from readers r where r.id = d.reader_id) as text_alone`.execute(trx);
      const got = new Map<string, number>();
      for (const row of rows) got.set(`${row.route_id} ${row.letter_id}`, (got.get(`${row.route_id} ${row.letter_id}`) ?? 0) + 1);
      const dry = shares.filter((one) => (got.get(`${one.routeId} ${one.letterId}`) ?? 0) < one.count);
      await turned(
        trx,
        shares.map((one) => ({ ...one, turn: one.turn - (one.count - (got.get(`${one.routeId} ${one.letterId}`) ?? 0)) })),
      );
      if (dry.length) await nextDue(trx, dry);
      await routesDue(
        trx,
        wants.map((one) => one.routeId),
      );
      // The last look: whoever may not be written to any more gets nothing, whatever the queue says.
      const barred = rows.filter((row) => !row.fine);
      if (barred.length) await bar(trx, barred);
      return rows.filter((row) => row.fine);
    });
    const ids = new Set(relays.map((relay) => relay.id));
    const claimedAt = performance.now();
    return inTurns(claimed).map((row) => ({
      id: `${row.sent_on} ${row.id}`,
      routeId: row.route_id,
      source: this,
      encrypted: row.encrypted && !ids.has(row.route_id),
      claimedAt,
      row,
      relay: ids.has(row.route_id),
    }));
  }

  async stillWanted({ row }: Copy): Promise<boolean> {
    const { rows } = await sql`
      select 1 from deliveries d join letters l on l.id = d.letter_id where d.sent_on = ${row.sent_on}::date and d.id = ${row.id}
        and d.state = 'claimed' and d.claimed_by = ${this.workerId} and l.state = 'sending'`.execute(this.ctx.db);
    return rows.length > 0;
  }

  async make({ row }: Copy): Promise<Made> {
    let letter = this.#letters.get(row.letter_id);
    if (!letter) {
      if (this.#letters.size >= MOST_KEPT) this.#letters.delete(this.#letters.keys().next().value!);
      letter = prepare(this.ctx, row.letter_id);
      this.#letters.set(row.letter_id, letter);
      // A letter that could not be made ready is looked at anew the next time.
      letter.catch(() => this.#letters.delete(row.letter_id));
    }
    return messageFor(await letter, {
      id: row.id,
      sentOn: row.sent_on,
      readerId: row.reader_id,
      address: row.address,
      variant: row.variant,
      chips: row.chips,
      textAlone: row.text_alone,
    });
  }

  async record(results: Result<Copy>[]): Promise<void> {
    const sorted = [...results].sort(byKey);
    const delivered = sorted.filter(({ ending }) => ending.kind === 'delivered');
    const others = sorted.flatMap(({ parcel, ending }) => (ending.kind === 'delivered' ? [] : [{ parcel, ending }]));
    if (delivered.length) await this.#recordDelivered(delivered);
    if (others.length) await this.#recordOthers(others);
  }

  /**
   * What was taken, which is nearly everything, in one statement: the copies, the letters' counts, and on the readers when they were last sent something and that they got one more.
   * That somebody left meanwhile changes nothing of what was delivered before; what another worker has taken over is its own to write.
   */
  async #recordDelivered(results: Result<Copy>[]): Promise<void> {
    const { ctx } = this;
    const now = ctx.clock.now();
    const rows = results.map(({ parcel }) => parcel.row);
    const { rows: seen } = await sql<{ id: string; soft_evidence: number; soft_at: Date | null }>`
      with said as (select * from unnest(${rows.map((row) => row.sent_on)}::date[], ${rows.map((row) => row.id)}::bigint[], ${results.map(({ ending }) => (ending as { response: string }).response)}::text[]) as t(sent_on, id, response)),
      stands as (
        select d.sent_on, d.id, d.state from deliveries d
        where d.sent_on = any(${daysOf(results)}::date[]) and (d.sent_on, d.id) in (select sent_on, id from said)
          and (d.state in ('queued', 'cancelled') or (d.state = 'claimed' and d.claimed_by = ${this.workerId}::uuid)) order by d.sent_on, d.id for update),
      written as (
        update deliveries d set state = 'delivered', claimed_by = null, attempts = d.attempts + 1, response = said.response, delivered_at = ${now}::timestamptz
        from stands join said using (sent_on, id) where d.sent_on = any(${daysOf(results)}::date[]) and d.sent_on = stands.sent_on and d.id = stands.id
        returning d.sent_on, d.id, d.newsletter_id, d.letter_id, d.domain_id, d.reader_id, d.opened_at, d.clicked_at, d.opened_by_machine_at, stands.state as before),
      counted as (
        insert into letter_changes (newsletter_id, letter_id, domain_id, delivered, cancelled)
        select w.newsletter_id, w.letter_id, coalesce(s.domain_id, 0), count(*), -count(*) filter (where w.before = 'cancelled') from written w
        left join letter_sums s on s.newsletter_id = w.newsletter_id and s.letter_id = w.letter_id and s.domain_id = w.domain_id group by 1, 2, 3),
      known as (select id from readers where id in (select reader_id from written) order by id for update),
      placed as (select *, 1::bigint << (row_number() over (partition by reader_id order by sent_on desc, id desc) - 1)::int as bit from written),
      -- Whoever looked before this was written is among those who read it.
      got as (select reader_id, count(*)::int as n, coalesce(bit_or(bit) filter (where opened_at is not null), 0) as read, coalesce(bit_or(bit) filter (where clicked_at is not null), 0) as clicked,
        coalesce(bit_or(bit) filter (where opened_by_machine_at is not null), 0) as hidden from placed group by 1)
      update readers r set last_sent_at = ${now}, letters_got = r.letters_got + got.n, recent_read = r.recent_read << got.n | got.read,
        recent_clicked = r.recent_clicked << got.n | got.clicked, recent_hidden = r.recent_hidden << got.n | got.hidden
      from known join got on got.reader_id = known.id where r.id = known.id returning r.id, r.soft_evidence, r.soft_at`.execute(
      ctx.db,
    );
    const per = new Map<string, number>();
    for (const { parcel } of results) {
      this.taken.add(parcel.row.route_id, 1, now);
      if (parcel.relay) per.set(parcel.row.newsletter_id, (per.get(parcel.row.newsletter_id) ?? 0) + 1);
    }
    for (const [newsletterId, mails] of [...per].sort()) await countRelay(ctx, ctx.db, newsletterId, mails);
    await fade(
      ctx,
      ctx.db,
      seen.filter((row) => row.soft_evidence > 0),
    );
  }

  async #recordOthers(sorted: { parcel: Copy; ending: Exclude<Ending, { kind: 'delivered' }> }[]): Promise<void> {
    const { ctx } = this;
    const now = ctx.clock.now();
    await ctx.db.transaction().execute(async (trx) => {
      const keys = sql`unnest(${sorted.map(({ parcel }) => parcel.row.sent_on)}::date[], ${sorted.map(({ parcel }) => parcel.row.id)}::bigint[])`;
      const days = sql`${[...new Set(sorted.map(({ parcel }) => parcel.row.sent_on))]}::date[]`;
      const { rows: locked } = await sql<{ sent_on: string; id: string; state: string; mine: boolean }>`
        select sent_on, id, state, claimed_by is not distinct from ${this.workerId}::uuid as mine from deliveries
        where sent_on = any(${days}) and (sent_on, id) in (select * from ${keys}) order by sent_on, id for update`.execute(trx);
      const stands = new Map(locked.map((row) => [`${row.sent_on} ${row.id}`, row]));
      const own = sorted.filter(({ parcel }) => {
        const row = stands.get(parcel.id);
        if (!row) return false;
        return row.state === 'queued' || (row.state === 'claimed' && row.mine);
      });
      if (own.length === 0) return;
      const said = own.flatMap(({ parcel, ending }): Said[] =>
        ending.kind === 'dead' ? [{ ...of(parcel), outcome: ending, weight: 0 }] : [],
      );
      const innocent = said.length ? await tellMailboxes(ctx, trx, said, this.taken) : new Set<string>();
      const written = own.map(({ parcel, ending }) => ({
        parcel,
        ...this.#after(
          {
            parcel,
            ending:
              ending.kind === 'dead' && innocent.has(parcel.row.reader_id)
                ? { kind: 'put back', reason: ending.response, waitMs: 30 * 60_000 }
                : ending,
          },
          now,
        ),
      }));
      // Silencing a mailbox cancels what is queued for its reader, these copies too, and counts that; what really came of them takes it back.
      const { rows: cancelled } = await sql<{ sent_on: string; id: string }>`
        select sent_on, id from deliveries where sent_on = any(${days}) and (sent_on, id) in (select * from ${keys}) and state = 'cancelled'`.execute(
        trx,
      );
      const wasCancelled = new Set(cancelled.map((row) => `${row.sent_on} ${row.id}`));
      await sql`
        update deliveries d set state = n.state, claimed_by = null, attempts = d.attempts + n.tried, faults = d.faults + n.faulty, due_at = n.due_at,
          response = coalesce(n.response, d.response), reason = coalesce(n.reason, d.reason)
        from unnest(${written.map((one) => one.parcel.row.sent_on)}::date[], ${written.map((one) => one.parcel.row.id)}::bigint[], ${written.map((one) => one.state)}::text[],
                    ${written.map((one) => one.tried)}::int[], ${written.map((one) => one.faulty)}::int[], ${written.map((one) => one.due)}::timestamptz[],
                    ${written.map((one) => one.response)}::text[], ${written.map((one) => one.reason)}::text[]) as n(sent_on, id, state, tried, faulty, due_at, response, reason)
        where d.sent_on = any(${days}) and d.sent_on = n.sent_on and d.id = n.id`.execute(trx);
      const changes = written.flatMap(({ parcel, state }): LetterChange[] => {
        const change: LetterChange = {
          newsletterId: parcel.row.newsletter_id,
          letterId: parcel.row.letter_id,
          domainId: parcel.row.domain_id,
        };
        const field = FIELD[state];
        const taken = wasCancelled.has(parcel.id) ? [{ ...change, cancelled: -1 }] : [];
        return field ? [{ ...change, [field]: 1 }, ...taken] : taken;
      });
      await countLetters(trx, changes);
      await countReasons(
        trx,
        now,
        written.flatMap(({ parcel, state, reason }) =>
          reason === null
            ? []
            : [
                {
                  newsletterId: parcel.row.newsletter_id,
                  letterId: parcel.row.letter_id,
                  domainId: parcel.row.domain_id,
                  reason,
                  ...(state === 'queued' ? { putOff: 1 } : { ended: 1 }),
                },
              ],
        ),
      );
      const again = written.filter((one) => one.state === 'queued');
      if (again.length)
        await waitAgain(
          trx,
          again.map((one) => ({ ...one.parcel.row, due: one.due })),
        );
      const weighed = written.filter((one) => one.weight > 0);
      if (weighed.length)
        await tellMailboxes(
          ctx,
          trx,
          weighed.map((one) => ({
            ...of(one.parcel),
            outcome: { kind: 'later', response: one.response ?? '', reason: one.reason ?? 'unknown', slow: false },
            weight: one.weight,
          })),
          this.taken,
        );
      const bounced = written.filter((one) => one.state === 'bounced');
      if (bounced.length)
        await noteBounces(
          trx,
          now,
          bounced.map((one) => one.parcel.row),
        );
    });
  }

  #after({ parcel, ending }: { parcel: Copy; ending: Exclude<Ending, { kind: 'delivered' }> }, now: Date) {
    const { row } = parcel;
    const stays = {
      state: 'queued',
      tried: 0,
      faulty: 0,
      due: row.due_at as Date,
      response: 'response' in ending ? ending.response : null,
      reason: ('reason' in ending && ending.kind !== 'put back' ? ending.reason : null) as Reason | null,
      weight: 0,
    };
    const stale = now.getTime() - row.tried_at.getTime() >= LETTER_LIFE_MS;
    switch (ending.kind) {
      case 'dead':
        return { ...stays, state: 'bounced', tried: 1 };
      case 'refused':
        return { ...stays, state: 'refused', tried: 1, weight: ending.evidence };
      case 'later':
      case 'in doubt': {
        const next = nextTry(row.attempts + 1, row.tried_at, now, LETTER_LIFE_MS);
        if (next) return { ...stays, tried: 1, due: next };
        return {
          ...stays,
          state: 'given up',
          reason: stays.reason ?? 'unreachable',
          tried: 1,
          weight: ending.kind === 'later' ? GIVEN_UP_WEIGHT : 0,
        };
      }
      case 'put back':
        // The way's fault and never the reader's; but a letter is stale after two days.
        if (ending.reason !== null && stale)
          return { ...stays, state: 'given up', response: ending.reason, reason: reasonOfWay(ending.reason) };
        return {
          ...stays,
          due: ending.waitMs ? new Date(now.getTime() + ending.waitMs) : row.due_at,
          response: ending.reason,
          reason: ending.reason === null ? null : reasonOfWay(ending.reason),
        };
      case 'fault':
        if (row.faults + 1 >= MOST_FAULTS) return { ...stays, state: 'given up', faulty: 1 };
        return { ...stays, faulty: 1, due: new Date(now.getTime() + FAULT_WAIT_MS) };
    }
  }

  async setAside({ row }: Copy, reason: string): Promise<void> {
    await sql`update deliveries set state = 'given up', claimed_by = null, faults = faults + 1, response = ${`Something on our side failed: ${reason.replace(/[^\x20-\x7e]/g, '?').slice(0, 200)}`}
      where sent_on = ${row.sent_on}::date and id = ${row.id}`.execute(this.ctx.db);
    await countLetters(this.ctx.db, [
      { newsletterId: row.newsletter_id, letterId: row.letter_id, domainId: row.domain_id, given_up: 1 },
    ]);
  }

  async reclaim(inHand: string[]): Promise<number> {
    const { rows } = await sql<{ letter_id: string; newsletter_id: string; route_id: number; sent_on: string; due: Date }>`
      update deliveries set state = 'queued', claimed_by = null
      where state = 'claimed' and claimed_by = ${this.workerId}::uuid and (sent_on || ' ' || id) <> all(${inHand}::text[])
      returning letter_id, newsletter_id, route_id, sent_on, due_at as due`.execute(this.ctx.db);
    await waitAgain(this.ctx.db, rows);
    return rows.length;
  }
}

/** As they leave: each letter's first ones first, letters taking turns by tens, so that none waits behind the whole claim of another. */
function inTurns(rows: Row[]): Row[] {
  const letters = new Map<string, Row[]>();
  for (const row of rows.sort((a, b) => a.due_at.getTime() - b.due_at.getTime() || Number(BigInt(a.id) - BigInt(b.id)))) {
    const own = letters.get(row.letter_id);
    if (own) own.push(row);
    else letters.set(row.letter_id, [row]);
  }
  const all = [...letters.values()];
  const out: Row[] = [];
  for (let at = 0; out.length < rows.length; at += STRIDE) for (const own of all) out.push(...own.slice(at, at + STRIDE));
  return out;
}

const of = ({ row }: Copy) => ({ readerId: row.reader_id, newsletterId: row.newsletter_id, routeId: row.route_id });
const daysOf = (results: Result<Copy>[]) => [...new Set(results.map(({ parcel }) => parcel.row.sent_on))];
const byKey = (a: Result<Copy>, b: Result<Copy>) => {
  const [x, y] = [a.parcel.row, b.parcel.row];
  return x.sent_on < y.sent_on ? -1 : x.sent_on > y.sent_on ? 1 : BigInt(x.id) < BigInt(y.id) ? -1 : 1;
};
const FIELD: Record<string, 'bounced' | 'refused' | 'given_up' | undefined> = {
  bounced: 'bounced',
  refused: 'refused',
  'given up': 'given_up',
};

type JobKey = { routeId: number; letterId: string };

async function turned(db: Db, shares: (JobKey & { turn: number })[]): Promise<void> {
  await sql`update route_jobs j set turn = n.turn from unnest(${shares.map((one) => one.routeId)}::int[], ${shares.map((one) => one.letterId)}::uuid[], ${shares.map((one) => one.turn)}::float8[]) as n(route_id, letter_id, turn)
    where j.route_id = n.route_id and j.letter_id = n.letter_id`.execute(db);
}

/** When a letter next has something for a route, after it gave less than was asked for; a job that has nothing left goes. */
async function nextDue(db: Db, dry: (JobKey & { sentOn: string })[]): Promise<void> {
  await sql`
    with next as (
      select w.route_id, w.letter_id, (select min(d.due_at) from deliveries d where d.letter_id = w.letter_id and d.sent_on = w.sent_on and d.route_id = w.route_id and d.state = 'queued') as due
      from unnest(${dry.map((one) => one.routeId)}::int[], ${dry.map((one) => one.letterId)}::uuid[], ${dry.map((one) => one.sentOn)}::date[]) as w(route_id, letter_id, sent_on)
    ), gone as (delete from route_jobs j using next n where j.route_id = n.route_id and j.letter_id = n.letter_id and n.due is null)
    update route_jobs j set next_due = n.due from next n where j.route_id = n.route_id and j.letter_id = n.letter_id and n.due is not null`.execute(
    db,
  );
}

/** Keeps on routes when the first of their letters is due. */
export async function routesDue(db: Db, routeIds: number[]): Promise<void> {
  await sql`
    update routes r set due_at = n.due from (select w.id, (select min(j.next_due) from route_jobs j where j.route_id = w.id and not j.resting) as due
      from unnest(${[...new Set(routeIds)].sort((a, b) => a - b)}::int[]) as w(id)) n
    where r.id = n.id and r.due_at is distinct from n.due`.execute(db);
}

/** Puts jobs in place for deliveries that wait (again): the letter stands in its routes' queues from the first of them on. */
export async function waitAgain(
  db: Db,
  rows: { letter_id: string; newsletter_id: string; route_id: number | null; sent_on: string; due: Date }[],
): Promise<void> {
  const firsts = new Map<string, (typeof rows)[number]>();
  for (const row of rows) {
    if (row.route_id === null) continue;
    const key = `${String(row.route_id).padStart(12, '0')} ${row.letter_id}`;
    const first = firsts.get(key);
    if (!first || row.due < first.due) firsts.set(key, row);
  }
  if (firsts.size === 0) return;
  const waiting = [...firsts].sort(([a], [b]) => (a < b ? -1 : 1)).map(([, row]) => row);
  const { rows: there } = await sql<{
    id: number;
  }>`select id from routes where id = any(${[...new Set(waiting.map((row) => row.route_id))]}::int[])`.execute(db);
  const known = new Set(there.map(({ id }) => id));
  const all = waiting.filter((row) => known.has(row.route_id!));
  for (const row of waiting) if (!known.has(row.route_id!)) await rerouteAll(db, row);
  if (all.length === 0) return;
  await sql`
    insert into route_jobs (route_id, letter_id, newsletter_id, sent_on, next_due, turn, resting)
    select n.route_id, n.letter_id, n.newsletter_id, n.sent_on, n.due, coalesce((select min(turn) from route_jobs j where j.route_id = n.route_id), 0),
           exists (select 1 from letters l where l.id = n.letter_id and l.state = 'paused')
    from unnest(${all.map((row) => row.route_id)}::int[], ${all.map((row) => row.letter_id)}::uuid[], ${all.map((row) => row.newsletter_id)}::uuid[],
      ${all.map((row) => row.sent_on)}::date[], ${all.map((row) => row.due)}::timestamptz[]) as n(route_id, letter_id, newsletter_id, sent_on, due)
    on conflict (route_id, letter_id) do update set next_due = least(route_jobs.next_due, excluded.next_due)`.execute(db);
  await sql`
    update routes r set due_at = least(coalesce(r.due_at, n.due), n.due) from (select route_id, min(due) as due
      from unnest(${all.map((row) => row.route_id)}::int[], ${all.map((row) => row.due)}::timestamptz[]) as t(route_id, due) group by 1 order by 1) n
    where r.id = n.route_id and (r.due_at is null or r.due_at > n.due)`.execute(db);
}

/** What waits for a route that is no more (a relay was taken away) is to find its way anew. */
async function rerouteAll(db: Db, job: { letter_id: string; route_id: number | null; sent_on: string }): Promise<void> {
  await sql`
    with lost as (update deliveries set route_id = null where letter_id = ${job.letter_id} and sent_on = ${job.sent_on}::date and route_id = ${job.route_id} and state = 'queued' returning domain_id)
    update mail_domains d set wanted = d.wanted + l.n, look_at = '-infinity' from (select domain_id, count(*)::int as n from lost group by 1 order by 1) l where d.id = l.domain_id`.execute(
    db,
  );
}

/** Cancels copies that were claimed for people who may not be written to. */
async function bar(db: Db, rows: Row[]): Promise<void> {
  await sql`update deliveries d set state = 'cancelled', claimed_by = null where d.sent_on = any(${rows.map((row) => row.sent_on)}::date[]) and (d.sent_on, d.id) in
    (select * from unnest(${rows.map((row) => row.sent_on)}::date[], ${rows.map((row) => row.id)}::bigint[]))`.execute(db);
  await countLetters(
    db,
    rows.map((row) => ({ newsletterId: row.newsletter_id, letterId: row.letter_id, domainId: row.domain_id, cancelled: 1 })),
  );
}

async function noteBounces(
  db: Db,
  now: Date,
  rows: Pick<Row, 'id' | 'sent_on' | 'letter_id' | 'newsletter_id' | 'reader_id'>[],
): Promise<void> {
  await db
    .insertInto('events')
    .values(
      rows.map((row) => ({
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
}
