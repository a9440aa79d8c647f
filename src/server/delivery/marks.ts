import { sql } from 'kysely';
import { BURST_MS, isBurst, type MachineReason, machineReason } from '@/core/delivery/machine';
import { REMEMBERED } from '@/core/readers/condition';
import type { DeliveryRef } from '@/core/sending/token';
import type { Context } from '../context';
import { type Db, inTransaction, untilBack } from '../db/connection';
import { insertRows } from '../db/rows';
import { countLetters, type LetterChange } from '../sending/counts';

/** An open or a click as it came in. Its network is judged by and not kept. */
export type Mark = {
  ref: DeliveryRef;
  kind: 'open' | 'click';
  at: Date;
  agent: string;
  network?: string;
  method: string;
  link: number | null;
};

const WITHIN_MS = 50;
const MOST_AT_ONCE = 1_000;
/** A copy that was put off may be delivered so many days after its letter's own day, and after later letters. */
const LATE_DAYS = 40;
/** Beyond this many unwritten marks new ones are dropped: a page view is worth less than a process that lives. */
const MOST_WAITING = 200_000;

/**
 * Collects opens and clicks and writes them together, at the latest 50 ms after the first. While the database is away
 * they wait in memory and are written when it is back.
 */
export class MarkBook {
  #waiting: Mark[] = [];
  #timer: NodeJS.Timeout | null = null;
  #writing: Promise<void> = Promise.resolve();

  constructor(private readonly ctx: Context) {}

  add(mark: Mark): void {
    if (this.#waiting.length >= MOST_WAITING) return;
    this.#waiting.push(mark);
    this.#timer ??= setTimeout(() => this.#write(), WITHIN_MS);
  }

  /** Writes what is waiting now; resolves when it is durable. */
  async flush(): Promise<void> {
    this.#write();
    await this.#writing;
  }

  #write(): void {
    if (this.#timer) clearTimeout(this.#timer);
    this.#timer = null;
    while (this.#waiting.length) {
      const batch = this.#waiting.splice(0, MOST_AT_ONCE);
      this.#writing = this.#writing
        .then(() =>
          untilBack(
            () => writeMarks(this.ctx, batch),
            (ms) => new Promise((resolve) => setTimeout(resolve, ms)),
          ),
        )
        .catch((error) => this.ctx.log.error({ err: error, lost: batch.length }, 'opens or clicks could not be written'));
    }
  }
}

const BITS = ['recent_read', 'recent_hidden', 'recent_clicked'] as const;
type Bits = (typeof BITS)[number];
/** A copy that was opened or followed for the first time, and which of its reader's bits that sets. */
type First = { id: string; sentOn: string; readerId: string; bits: Bits };

const EVENT_COLUMNS = [
  'day',
  'at',
  'newsletter_id',
  'letter_id',
  'delivery_id',
  'reader_id',
  'kind',
  'machine',
  'link_position',
  'agent',
  'why',
] as const;

/** What the database takes from no JSON: NUL, and halves of characters. */
const NO_JSON = /[\0\ud800-\udfff]/gu;

type Found = {
  sent_on: string;
  id: string;
  domain_id: number;
  letter_id: string;
  newsletter_id: string;
  reader_id: string;
  delivered_at: Date | null;
  opened_at: Date | null;
  opened_by_machine_at: Date | null;
  clicked_at: Date | null;
};

/**
 * Writes marks in one transaction: events, the first of each kind on the delivery, the letters' counts, and on their readers when they last read and
 * clicked. A click is also an open by a person. Where a copy's links are followed nearly all within seconds, it was a scanner: what was taken for a person's in these
 * seconds is taken back. Rows are locked in one order, and what got in another's way is tried again.
 */
export const writeMarks = (ctx: Context, marks: Mark[]): Promise<void> => inTransaction(ctx.db, (trx) => write(trx, marks));

async function write(trx: Db, marks: Mark[]): Promise<void> {
  const { rows } = await sql<Found>`
    select d.sent_on, d.id, d.domain_id, d.letter_id, d.newsletter_id, d.reader_id, d.delivered_at, d.opened_at, d.opened_by_machine_at, d.clicked_at from deliveries d
    where d.sent_on = any(${[...new Set(marks.map((m) => m.ref.sentOn))]}::date[]) and (d.sent_on, d.id) in
      (select * from unnest(${marks.map((m) => m.ref.sentOn)}::date[], ${marks.map((m) => String(m.ref.id))}::bigint[]))
    order by d.sent_on, d.id for update`.execute(trx);
  const deliveries = new Map(rows.map((row) => [row.id, row]));
  const bursts = await burstsAmong(trx, marks, deliveries);
  const judged = marks.flatMap((mark) => {
    const delivery = deliveries.get(String(mark.ref.id));
    if (!delivery) return [];
    const secondsSinceDelivery = delivery.delivered_at ? (mark.at.getTime() - delivery.delivered_at.getTime()) / 1000 : null;
    const why: MachineReason | null =
      machineReason({ ...mark, network: mark.network ?? '', secondsSinceDelivery }) ??
      (bursts.has(delivery.id) ? 'all links' : null);
    return [{ mark, delivery, machine: why !== null, why }];
  });
  if (judged.length === 0) return;
  await insertRows(
    'events',
    EVENT_COLUMNS,
    judged.map(({ mark, delivery, machine, why }) => ({
      day: delivery.sent_on,
      at: mark.at,
      newsletter_id: delivery.newsletter_id,
      letter_id: delivery.letter_id,
      delivery_id: delivery.id,
      reader_id: delivery.reader_id,
      kind: mark.kind,
      machine,
      link_position: mark.link,
      agent: mark.agent.slice(0, 200).replace(NO_JSON, ''),
      why,
    })),
  ).execute(trx);
  const changes: LetterChange[] = await takeBack(
    trx,
    [...bursts].map(([id, since]) => ({ ...deliveries.get(id)!, since })),
  );
  const firstOf: First[] = [];
  const firsts = async (
    column: 'opened_at' | 'opened_by_machine_at' | 'clicked_at',
    count: 'opened_people' | 'opened_machines' | 'clicked',
    of: typeof judged,
    bits: Bits,
  ) => {
    if (of.length === 0) return;
    const { rows: first } = await sql<{ id: string; sent_on: string; machine: boolean; person: boolean }>`
      update deliveries d set ${sql.ref(column)} = f.at
      from (select sent_on, id, min(at) as at from unnest(${of.map((j) => j.delivery.sent_on)}::date[], ${of.map((j) => j.delivery.id)}::bigint[],
              ${of.map((j) => j.mark.at)}::timestamptz[]) as t(sent_on, id, at) group by sent_on, id) f
      where d.sent_on = any(${[...new Set(of.map((j) => j.delivery.sent_on))]}::date[]) and d.sent_on = f.sent_on and d.id = f.id and d.${sql.ref(column)} is null
      returning d.id, d.sent_on, d.opened_by_machine_at is not null as machine, d.opened_at is not null as person`.execute(trx);
    firstOf.push(...first.map(({ id, sent_on }) => ({ id, sentOn: sent_on, readerId: deliveries.get(id)!.reader_id, bits })));
    for (const { id, machine, person } of first) {
      const { newsletter_id, letter_id, domain_id } = deliveries.get(id)!;
      // Hidden is whom a machine opened it for before they were seen to, if ever.
      const hidden = count === 'opened_machines' && !person ? 1 : count === 'opened_people' && machine ? -1 : 0;
      changes.push({ newsletterId: newsletter_id, letterId: letter_id, domainId: domain_id, [count]: 1, hidden });
    }
  };
  const people = judged.filter((j) => !j.machine);
  const clicks = people.filter((j) => j.mark.kind === 'click');
  await firsts('opened_at', 'opened_people', people, 'recent_read');
  await firsts(
    'opened_by_machine_at',
    'opened_machines',
    judged.filter((j) => j.machine && j.mark.kind === 'open'),
    'recent_hidden',
  );
  await firsts('clicked_at', 'clicked', clicks, 'recent_clicked');
  await countLetters(trx, changes);
  await noteReaders(trx, firstOf, people);
  if (clicks.length) {
    await sql`
      update letter_links l set clicks = clicks + n.n
      from (select letter_id, position, count(*)::int as n
            from unnest(${clicks.map((j) => j.delivery.letter_id)}::uuid[], ${clicks.map((j) => j.mark.link ?? -1)}::int[]) as t(letter_id, position)
            group by letter_id, position) n
      join (select letter_id, position from letter_links where letter_id = any(${[...new Set(clicks.map((j) => j.delivery.letter_id))].sort()}::uuid[]) order by letter_id, position for update) k
        on k.letter_id = n.letter_id and k.position = n.position
      where l.letter_id = n.letter_id and l.position = n.position`.execute(trx);
  }
}

/** Copies whose links are followed nearly all within seconds, these marks and what came just before them together; with the moment from which on it was a scanner. */
async function burstsAmong(trx: Db, marks: Mark[], deliveries: ReadonlyMap<string, Found>): Promise<Map<string, Date>> {
  const clicks = new Map<string, { at: number; link: number }[]>();
  // A press on a page that a letter led to is no link that a scanner could have followed.
  const add = (id: string, at: Date, link: number | null) => {
    if (link !== null) clicks.set(id, [...(clicks.get(id) ?? []), { at: at.getTime(), link }]);
  };
  for (const { ref, kind, at, link } of marks)
    if (kind === 'click' && deliveries.has(String(ref.id))) add(String(ref.id), at, link);
  if (clicks.size === 0) return new Map();
  const of = [...clicks.keys()].map((id) => deliveries.get(id)!);
  const first = new Map([...clicks].map(([id, all]) => [id, Math.min(...all.map(({ at }) => at)) - BURST_MS]));
  const [{ rows: before }, { rows: links }] = await Promise.all([
    sql<{ delivery_id: string; at: Date; link_position: number | null }>`
      select delivery_id, at, link_position from events
      where day = any(${[...new Set(of.map((one) => one.sent_on))]}::date[]) and reader_id = any(${of.map((one) => one.reader_id)}::uuid[]) and at >= ${new Date(Math.min(...first.values()))} and kind = 'click'`.execute(
      trx,
    ),
    sql<{ letter_id: string; n: number }>`
      select letter_id, count(*)::int as n from letter_links where letter_id = any(${[...new Set(of.map((one) => one.letter_id))]}::uuid[]) group by 1`.execute(
      trx,
    ),
  ]);
  for (const { delivery_id, at, link_position } of before)
    if (at.getTime() >= (first.get(delivery_id) ?? Number.POSITIVE_INFINITY)) add(delivery_id, at, link_position);
  const has = new Map(links.map((row) => [row.letter_id, row.n]));
  return new Map(
    of
      .filter(({ id, letter_id }) => isBurst(clicks.get(id)!, has.get(letter_id) ?? 0))
      .map(({ id }) => [id, new Date(first.get(id)!)]),
  );
}

/** Takes back what a scanner was taken for: a person who opened copies, and followed their links. Answers how their letters' counts change. */
async function takeBack(trx: Db, copies: (Found & { since: Date })[]): Promise<LetterChange[]> {
  if (copies.length === 0) return [];
  const ids = copies.map((copy) => copy.id);
  const days = [...new Set(copies.map((copy) => copy.sent_on))];
  const of = sql`unnest(${copies.map((copy) => copy.sent_on)}::date[], ${ids}::bigint[], ${copies.map((copy) => copy.reader_id)}::uuid[], ${copies.map((copy) => copy.since)}::timestamptz[]) as t(sent_on, id, reader_id, since)`;
  const { rows: taken } = await sql<{
    delivery_id: string;
    kind: 'open' | 'click';
    link_position: number | null;
    letter_id: string;
  }>`
    update events e set machine = true, why = 'all links' from ${of}
    where e.day = any(${days}::date[]) and e.reader_id = t.reader_id and e.day = t.sent_on and e.delivery_id = t.id and e.at >= t.since and e.kind in ('open', 'click') and not e.machine
    returning e.delivery_id, e.kind, e.link_position, e.letter_id`.execute(trx);
  if (taken.length === 0) return [];
  const { rows: left } = await sql<{ id: string; opened: Date | null; clicked: Date | null }>`
    select t.id, min(e.at) as opened, min(e.at) filter (where e.kind = 'click') as clicked
    from ${of} left join events e on e.day = any(${days}::date[]) and e.reader_id = t.reader_id and e.day = t.sent_on and e.delivery_id = t.id and e.kind in ('open', 'click') and not e.machine
    group by t.id`.execute(trx);
  const now = new Map(left.map((row) => [row.id, row]));
  const seen = new Set(taken.filter(({ kind }) => kind === 'open').map(({ delivery_id }) => delivery_id));
  const changed = copies
    .map((copy) => {
      const { opened, clicked } = now.get(copy.id)!;
      return {
        copy,
        opened,
        clicked,
        machine: copy.opened_by_machine_at ?? (seen.has(copy.id) ? copy.since : null),
      };
    })
    .sort((a, b) => (a.copy.sent_on + a.copy.id < b.copy.sent_on + b.copy.id ? -1 : 1));
  await sql`
    update deliveries d set opened_at = n.opened, clicked_at = n.clicked, opened_by_machine_at = n.machine
    from unnest(${changed.map(({ copy }) => copy.sent_on)}::date[], ${changed.map(({ copy }) => copy.id)}::bigint[], ${changed.map(({ opened }) => opened)}::timestamptz[],
                ${changed.map(({ clicked }) => clicked)}::timestamptz[], ${changed.map(({ machine }) => machine)}::timestamptz[]) as n(sent_on, id, opened, clicked, machine)
    where d.sent_on = any(${[...new Set(copies.map((copy) => copy.sent_on))]}::date[]) and d.sent_on = n.sent_on and d.id = n.id`.execute(
    trx,
  );
  const links = taken.filter(({ kind }) => kind === 'click');
  await sql`
    update letter_links l set clicks = l.clicks - n.n from (
      select letter_id, position, count(*)::int as n from unnest(${links.map((row) => row.letter_id)}::uuid[], ${links.map((row) => row.link_position ?? -1)}::int[]) as t(letter_id, position) group by 1, 2) n
    join (select letter_id, position from letter_links where letter_id = any(${[...new Set(links.map((row) => row.letter_id))].sort()}::uuid[]) order by letter_id, position for update) k
      on k.letter_id = n.letter_id and k.position = n.position
    where l.letter_id = n.letter_id and l.position = n.position`.execute(trx);
  const ends = (field: 'opened' | 'clicked', was: 'opened_at' | 'clicked_at') =>
    changed.filter((one) => one.copy[was] !== null && one[field] === null).map(({ copy }) => copy);
  const lost = { read: ends('opened', 'opened_at'), clicked: ends('clicked', 'clicked_at') };
  const hides = changed.filter((one) => one.machine !== null && one.copy.opened_by_machine_at === null).map(({ copy }) => copy);
  await setRecent(
    trx,
    'recent_read',
    lost.read,
    lost.read.map((copy) => copy.reader_id),
    false,
  );
  await setRecent(
    trx,
    'recent_clicked',
    lost.clicked,
    lost.clicked.map((copy) => copy.reader_id),
    false,
  );
  await setRecent(
    trx,
    'recent_hidden',
    hides,
    hides.map((copy) => copy.reader_id),
    true,
  );
  // When they last read and clicked is what their other copies say, and what of this one still stands.
  await sql`
    update readers r set last_read_at = n.opened, last_clicked_at = n.clicked from (
      select d.reader_id, max(d.opened_at) as opened, max(d.clicked_at) as clicked from deliveries d where d.reader_id = any(${[...new Set(copies.map((copy) => copy.reader_id))].sort()}::uuid[]) group by 1) n
    join (select id from readers where id = any(${[...new Set(copies.map((copy) => copy.reader_id))].sort()}::uuid[]) order by id for update) k on k.id = n.reader_id
    where r.id = n.reader_id`.execute(trx);
  return changed.map(({ copy, opened, clicked, machine }) => ({
    newsletterId: copy.newsletter_id,
    letterId: copy.letter_id,
    domainId: copy.domain_id,
    opened_people: Number(opened !== null) - Number(copy.opened_at !== null),
    clicked: Number(clicked !== null) - Number(copy.clicked_at !== null),
    opened_machines: Number(machine !== null) - Number(copy.opened_by_machine_at !== null),
    hidden: Number(machine !== null && opened === null) - Number(copy.opened_by_machine_at !== null && copy.opened_at === null),
  }));
}

/** As many places up as letters were delivered to its reader after it. */
const PLACE = sql`(select count(*) from deliveries o where o.reader_id = d.reader_id and o.state = 'delivered' and o.sent_on >= d.sent_on - ${sql.lit(LATE_DAYS)}::int
  and (o.delivered_at, o.sent_on, o.id) > (d.delivered_at, d.sent_on, d.id))`;

/** Takes away the bit of each of these copies among its reader's latest letters, or sets it. Their rows are locked first, in one order. */
async function setRecent(
  trx: Db,
  bits: Bits,
  copies: { id: string; sent_on: string }[],
  readerIds: string[],
  on: boolean,
): Promise<void> {
  if (copies.length === 0) return;
  await sql`select id from readers where id = any(${[...new Set(readerIds)].sort()}::uuid[]) order by id for update`.execute(trx);
  await sql`
    with marked as (
      select d.reader_id, ${PLACE} as place
      from deliveries d where d.sent_on = any(${[...new Set(copies.map((copy) => copy.sent_on))]}::date[]) and d.state = 'delivered'
        and (d.sent_on, d.id) in (select * from unnest(${copies.map((copy) => copy.sent_on)}::date[], ${copies.map((copy) => copy.id)}::bigint[]))
    ), places as (select reader_id, bit_or(1::bigint << place::int) as bits from marked where place < ${REMEMBERED} group by 1)
    update readers r set ${sql.ref(bits)} = ${on ? sql`r.${sql.ref(bits)} | p.bits` : sql`r.${sql.ref(bits)} & ~p.bits`} from places p where r.id = p.reader_id`.execute(
    trx,
  );
}

/**
 * Notes on readers what they did: the bit of each copy of which it is the first, among the latest letters delivered to them, and when they last read and clicked. Each of
 * them is written once, since a reader stands in many indexes. Their rows are locked first, in one order.
 */
async function noteReaders(trx: Db, firsts: First[], people: { mark: Mark; delivery: Found }[]): Promise<void> {
  const ids = [...new Set([...firsts.map((one) => one.readerId), ...people.map((one) => one.delivery.reader_id)])].sort();
  if (ids.length === 0) return;
  // In a statement of its own: a letter that is being delivered to them at this moment is seen by the next one.
  await sql`select id from readers where id = any(${ids}::uuid[]) order by id for update`.execute(trx);
  await sql`
    with first as (select * from unnest(${firsts.map((one) => one.sentOn)}::date[], ${firsts.map((one) => one.id)}::bigint[], ${firsts.map((one) => one.bits)}::text[]) as t(sent_on, id, bits)),
    marked as (
      select d.id, d.reader_id, ${PLACE} as place from deliveries d
      where d.sent_on = any(${[...new Set(firsts.map((one) => one.sentOn))]}::date[]) and d.state = 'delivered' and (d.sent_on, d.id) in (select sent_on, id from first)
    ), places as (
      select m.reader_id, ${sql.join(BITS.map((bits) => sql`bit_or(1::bigint << m.place::int) filter (where f.bits = ${sql.lit(bits)}) as ${sql.ref(bits)}`))}
      from marked m join first f on f.id = m.id where m.place < ${REMEMBERED} group by 1
    ), seen as (
      select t.id, max(t.at) as read_at, max(t.at) filter (where t.click) as clicked_at
      from unnest(${people.map((j) => j.delivery.reader_id)}::uuid[], ${people.map((j) => j.mark.at)}::timestamptz[], ${people.map((j) => j.mark.kind === 'click')}::boolean[]) as t(id, at, click) group by t.id
    )
    update readers r set ${sql.join(BITS.map((bits) => sql`${sql.ref(bits)} = r.${sql.ref(bits)} | coalesce(n.${sql.ref(bits)}, 0)`))},
      last_read_at = greatest(r.last_read_at, n.read_at), last_clicked_at = greatest(r.last_clicked_at, n.clicked_at)
    from (select coalesce(p.reader_id, s.id) as reader_id, ${sql.join(BITS.map((bits) => sql`p.${sql.ref(bits)}`))}, s.read_at, s.clicked_at from places p full join seen s on s.id = p.reader_id) n
    where r.id = n.reader_id`.execute(trx);
}
