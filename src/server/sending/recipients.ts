import { type RawBuilder, sql } from 'kysely';
import { type Departure, hoursIn } from '@/core/sending/departure';
import type { Db } from '../db/connection';
import { conditionSql } from '../readers/conditions';
import { audienceSql, type Ready } from './audience';
import { answerSql, conditionOf } from './parts';

/* Who gets a letter and when each copy is due, fixed in the caller's transaction, and their places in the queues. */

/** Of so many domains a letter's results are counted one by one; the rest together. */
const DOMAINS_COUNTED = 50;

export type Of = { letterId: string; newsletterId: string; sentOn: string; now: Date };

/** When each recipient is due, as SQL on a row `r` of `readers`: never before now. */
export async function paceOf(
  db: Db,
  newsletter: { id: string },
  departure: Departure | null,
  now: Date,
): Promise<RawBuilder<unknown>> {
  const pace = departure?.pace ?? { kind: 'at once' as const };
  const at = sql`${now}::timestamptz`;
  if (pace.kind === 'over hours')
    // Neighbours in the order in which they came often have one provider: by chance, so that no hour is one provider's.
    return sql`${at} + (row_number() over (order by hashtextextended(r.id::text, 3)) - 1) * (${pace.hours * 3_600}::float8 / count(*) over ()) * interval '1 second'`;
  if (pace.kind === 'local hour' && departure && departure.when === 'at') {
    const { rows } = await sql<{ zone: string }>`
      select distinct zone from readers where newsletter_id = ${newsletter.id} and zone is not null`.execute(db);
    const hours = [
      ...hoursIn(
        departure.local,
        rows.map((row) => row.zone),
        departure.zone,
      ),
    ];
    const usual = hoursIn(departure.local, [departure.zone], departure.zone).get(departure.zone)!;
    return sql`greatest(${at}, coalesce((${hours.map(([, hour]) => hour)}::timestamptz[])[array_position(${hours.map(([zone]) => zone)}::text[], r.zone)], ${usual}::timestamptz))`;
  }
  return at;
}

/** The newsletter's own way, where it has one that is switched on. */
export const relayOf = (newsletterId: string) =>
  sql`(select x.id from relays y join routes x on x.newsletter_id = y.newsletter_id where y.newsletter_id = ${newsletterId}::uuid and y.switched_on)`;

/**
 * Who gets a letter, fixed by one INSERT … SELECT: everyone in its audience who reads, may be written to and has not asked for a pause, each once. Suppression beats every
 * selection. In the order in which they came, so that neighbours here are neighbours there, when each is written to. Their route is that of their domain as far as it was ever known, or the newsletter's relay; what was known long ago is looked up again
 * while they leave. Returns how many.
 */
export async function insertRecipients(
  db: Db,
  to: Of & {
    ready: Ready;
    tried: { share: number; versions: number } | null;
    fields: string[];
    parts: Ready;
    segments: string[];
    pace: RawBuilder<unknown>;
    /** Only those who have begun to read since then; they wait until they are let go. */
    since?: Date;
  },
): Promise<number> {
  const values = to.fields.map((field) => sql`${field}::text, ${answerSql(field)}`);
  for (const [n, part] of to.parts.audience.to.entries()) {
    const condition = conditionOf(part);
    if (condition)
      values.push(
        sql`${`in:${to.segments[n]}`}::text, case when ${conditionSql(condition, to.parts.moment, to.parts.known)} then '1' end`,
      );
  }
  const chips = values.length
    ? sql`nullif(jsonb_strip_nulls(jsonb_build_object(${sql.join(values)})), '{}'::jsonb)`
    : sql`null::jsonb`;
  // Whoever is among the first by chance gets one of the versions; the others wait for what comes of it (core/sending/letter-test, groupSize).
  const place = sql`row_number() over (order by hashtextextended(r.id::text || ${to.letterId}, 7))`;
  const all = sql`count(*) over ()`;
  const { share, versions } = to.tried ?? { share: 100, versions: 1 };
  const group = sql`least(greatest(1, floor(${all} * ${share}::float8 / 100 / ${versions}::float8)), floor(${all} / ${versions}::float8))`;
  const tried = sql`${place} <= ${group} * ${versions}`;
  const [state, variant, due] = to.tried
    ? [
        sql`case when ${tried} or ${group} = 0 then 'queued' else 'kept' end`,
        sql`case when ${tried} then (${place} - 1) % ${versions} else 0 end::smallint`,
        sql`case when ${tried} then ${to.now}::timestamptz else ${to.pace} end`,
      ]
    : [to.since ? sql`'kept'` : sql`'queued'`, sql`0`, to.pace];
  const result = await sql`
    insert into deliveries (sent_on, newsletter_id, letter_id, reader_id, address, domain_id, route_id, state, variant, chips, due_at)
    select ${to.sentOn}::date, r.newsletter_id, ${to.letterId}::uuid, r.id, r.address, r.domain_id,
      coalesce(${relayOf(to.newsletterId)},
               case when d.state = 'fine' then d.route_id end),
      ${state}, ${variant}, ${chips}, ${due}
    from (${audienceSql(to.newsletterId, to.ready)}) audience (id)
    join readers r on r.id = audience.id join mail_domains d on d.id = r.domain_id
    where r.newsletter_id = ${to.newsletterId}::uuid and r.standing = 'reading'
      and (r.paused_until is null or r.paused_until <= ${to.now}::timestamptz) and not exists (select 1 from suppressions s where s.newsletter_id = r.newsletter_id and s.address_key = r.address_key)
      and ${to.ready.lane}
      and ${to.since ? sql`exists (select 1 from memberships m where m.reader_id = r.id and m.state = 'reading' and m.joined_at > ${to.since}::timestamptz)` : sql`true`}
    order by r.id on conflict do nothing`.execute(db);
  return Number(result.numAffectedRows ?? 0);
}

/** Puts a letter's deliveries in their routes' queues, counts them by domain, and asks for the routes that are not known. */
export async function queue(db: Db, { letterId, newsletterId, sentOn, now }: Of, tested: boolean): Promise<void> {
  const kept = tested
    ? sql`union all select domain_id, count(*)::int, 0, 0 from deliveries where letter_id = ${letterId} and sent_on = ${sentOn}::date and state = 'kept' group by 1`
    : sql``;
  await sql`
    insert into route_jobs (route_id, letter_id, newsletter_id, sent_on, next_due, turn)
    select q.route_id, ${letterId}::uuid, ${newsletterId}::uuid, ${sentOn}::date, q.due, coalesce((select min(turn) from route_jobs j where j.route_id = q.route_id), 0)
    from (select route_id, min(due_at) as due from deliveries where letter_id = ${letterId} and sent_on = ${sentOn}::date and state = 'queued' and route_id is not null
          group by 1 order by 1) q on conflict do nothing`.execute(db);
  await sql`
    update routes r set due_at = least(coalesce(r.due_at, q.next_due), q.next_due) from (select route_id, next_due from route_jobs where letter_id = ${letterId} order by route_id) q
    where r.id = q.route_id and (r.due_at is null or r.due_at > q.next_due)`.execute(db);
  await sql`
    with counted as (select q.domain_id, q.n, case when q.lost > 0 or d.look_at <= ${now} then q.due else 0 end as lost from (
      select domain_id, sum(n)::int as n, sum(due)::int as due, sum(lost)::int as lost from (
        select domain_id, count(*)::int as n, count(*)::int as due, count(*) filter (where route_id is null)::int as lost from deliveries
        where letter_id = ${letterId} and sent_on = ${sentOn}::date and state = 'queued' group by 1 ${kept}) parts group by 1) q join mail_domains d on d.id = q.domain_id),
    ranked as (select *, row_number() over (order by n desc, domain_id) as place from counted),
    kept as (insert into letter_sums (newsletter_id, letter_id, domain_id, recipients)
      select ${newsletterId}::uuid, ${letterId}::uuid, case when place <= ${DOMAINS_COUNTED} then domain_id else 0 end, sum(n) from ranked group by 3)
    update mail_domains d set wanted = c.lost from (select domain_id, lost from counted where lost > 0 order by domain_id) c where d.id = c.domain_id`.execute(
    db,
  );
}

/** A number before which, or after which, copies are numbered. */
export async function nextCopy(db: Db): Promise<string> {
  const { rows } = await sql<{ n: string }>`select nextval(pg_get_serial_sequence('deliveries', 'id')) as n`.execute(db);
  return rows[0]!.n;
}
