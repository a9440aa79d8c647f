import { sql } from 'kysely';
import { isMachine } from '@/core/delivery/machine';
import { REMEMBERED } from '@/core/readers/condition';
import type { DeliveryRef } from '@/core/sending/token';
import type { Context } from '../context';
import { type Db, inTransaction, untilBack } from '../db/connection';
import { countLetters, type LetterChange } from '../sending/counts';

/** An open or a click as it came in. */
export type Mark = { ref: DeliveryRef; kind: 'open' | 'click'; at: Date; agent: string; method: string; link: number | null };

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

type Found = {
  sent_on: string;
  id: string;
  domain_id: number;
  letter_id: string;
  newsletter_id: string;
  reader_id: string;
  delivered_at: Date | null;
};

/**
 * Writes marks in one transaction: events, the first of each kind on the delivery, the letters' counts, and on their readers when they last read and
 * clicked. A click is also an open by a person. Rows are locked in one order, and what got in another's way is tried again.
 */
export const writeMarks = (ctx: Context, marks: Mark[]): Promise<void> => inTransaction(ctx.db, (trx) => write(trx, marks));

async function write(trx: Db, marks: Mark[]): Promise<void> {
  const { rows } = await sql<Found>`
    select d.sent_on, d.id, d.domain_id, d.letter_id, d.newsletter_id, d.reader_id, d.delivered_at from deliveries d
    where d.sent_on = any(${[...new Set(marks.map((m) => m.ref.sentOn))]}::date[]) and (d.sent_on, d.id) in
      (select * from unnest(${marks.map((m) => m.ref.sentOn)}::date[], ${marks.map((m) => String(m.ref.id))}::bigint[]))
    order by d.sent_on, d.id for update`.execute(trx);
  const deliveries = new Map(rows.map((row) => [row.id, row]));
  const judged = marks.flatMap((mark) => {
    const delivery = deliveries.get(String(mark.ref.id));
    if (!delivery) return [];
    const seconds = delivery.delivered_at ? (mark.at.getTime() - delivery.delivered_at.getTime()) / 1000 : null;
    return [{ mark, delivery, machine: isMachine(mark.agent, seconds, mark.method) }];
  });
  if (judged.length === 0) return;
  await trx
    .insertInto('events')
    .values(
      judged.map(({ mark, delivery, machine }) => ({
        day: delivery.sent_on,
        at: mark.at,
        newsletter_id: delivery.newsletter_id,
        letter_id: delivery.letter_id,
        delivery_id: delivery.id,
        reader_id: delivery.reader_id,
        kind: mark.kind,
        machine,
        link_position: mark.link,
        agent: mark.agent.slice(0, 200),
      })),
    )
    .execute();
  const changes: LetterChange[] = [];
  const firsts = async (
    column: 'opened_at' | 'opened_by_machine_at' | 'clicked_at',
    count: 'opened_people' | 'opened_machines' | 'clicked',
    of: typeof judged,
    bits: 'recent_read' | 'recent_hidden' | 'recent_clicked',
  ) => {
    if (of.length === 0) return;
    const { rows: first } = await sql<{ id: string; sent_on: string; machine: boolean; person: boolean }>`
      update deliveries d set ${sql.ref(column)} = f.at
      from (select sent_on, id, min(at) as at from unnest(${of.map((j) => j.delivery.sent_on)}::date[], ${of.map((j) => j.delivery.id)}::bigint[],
              ${of.map((j) => j.mark.at)}::timestamptz[]) as t(sent_on, id, at) group by sent_on, id) f
      where d.sent_on = any(${[...new Set(of.map((j) => j.delivery.sent_on))]}::date[]) and d.sent_on = f.sent_on and d.id = f.id and d.${sql.ref(column)} is null
      returning d.id, d.sent_on, d.opened_by_machine_at is not null as machine, d.opened_at is not null as person`.execute(trx);
    await markRecent(
      trx,
      bits,
      first,
      first.map(({ id }) => deliveries.get(id)!.reader_id),
    );
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
  if (people.length) await lastSeen(trx, people);
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

/**
 * Sets the bit of each of these copies among its reader's latest letters: as many places up as letters were delivered to them after it. Their rows are
 * locked first, in one order.
 */
async function markRecent(
  trx: Db,
  bits: 'recent_read' | 'recent_hidden' | 'recent_clicked',
  copies: { id: string; sent_on: string }[],
  readerIds: string[],
): Promise<void> {
  if (copies.length === 0) return;
  // In a statement of its own: a letter that is being delivered to them at this moment is seen by the next one.
  await sql`select id from readers where id = any(${[...new Set(readerIds)].sort()}::uuid[]) order by id for update`.execute(trx);
  await sql`
    with marked as (
      select d.reader_id, (select count(*) from deliveries o where o.reader_id = d.reader_id and o.state = 'delivered' and o.sent_on >= d.sent_on - ${LATE_DAYS}::int
          and (o.delivered_at, o.sent_on, o.id) > (d.delivered_at, d.sent_on, d.id)) as place
      from deliveries d where d.sent_on = any(${[...new Set(copies.map((copy) => copy.sent_on))]}::date[]) and d.state = 'delivered'
        and (d.sent_on, d.id) in (select * from unnest(${copies.map((copy) => copy.sent_on)}::date[], ${copies.map((copy) => copy.id)}::bigint[]))
    ), places as (select reader_id, bit_or(1::bigint << place::int) as bits from marked where place < ${REMEMBERED} group by 1)
    update readers r set ${sql.ref(bits)} = r.${sql.ref(bits)} | p.bits from places p where r.id = p.reader_id`.execute(trx);
}

/** When these readers last read and clicked. */
async function lastSeen(trx: Db, people: { mark: Mark; delivery: Found }[]): Promise<void> {
  const ids = people.map((j) => j.delivery.reader_id);
  await sql`
    update readers r set last_read_at = greatest(r.last_read_at, n.read_at), last_clicked_at = greatest(r.last_clicked_at, n.clicked_at)
    from (select t.id, max(t.at) as read_at, max(t.at) filter (where t.click) as clicked_at
          from unnest(${ids}::uuid[], ${people.map((j) => j.mark.at)}::timestamptz[], ${people.map((j) => j.mark.kind === 'click')}::boolean[]) as t(id, at, click) group by t.id) n
    join (select id from readers where id = any(${[...new Set(ids)].sort()}::uuid[]) order by id for update) l on l.id = n.id
    where r.id = n.id`.execute(trx);
}
