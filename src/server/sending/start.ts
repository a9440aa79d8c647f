import { type RawBuilder, sql } from 'kysely';
import { type Departure, hoursIn } from '@/core/sending/departure';
import { type Check, checksOf } from '@/core/writing/checks';
import { type Document, segmentsIn } from '@/core/writing/document';
import { takeLinks } from '@/core/writing/render';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import { conditionSql } from '../readers/conditions';
import { freshenFor } from '../senders/domains';
import { audienceSql, type Ready, readyAudience } from './audience';
import { drawn, laidOut } from './laid-out';
import { moveLetter } from './letters';
import { answerSql, conditionOf, partsOf } from './parts';
import { spreadByRamp } from './ramp';

/** How long a letter that may not leave yet waits before it is tried again. */
const HOLD_MS = 5 * 60_000;
/** Of so many domains a letter's results are counted one by one; the rest together. */
const DOMAINS_COUNTED = 50;

/**
 * Starts a due letter. First it is looked whether it may leave: if not, it is held with the reason and looked at again; nothing is lost. Then it is
 * *starting*, its partition fixed, and its recipients are fixed in one transaction, so that a crash leaves it starting or sending, never between, and
 * whoever comes next goes on. Safe to call twice, and side by side.
 */
export async function startLetter(ctx: Context, id: string): Promise<void> {
  await freshenDomain(ctx, id);
  const ready = await ctx.db.transaction().execute((trx) => mayStart(ctx, trx, id));
  if (ready) await fixRecipients(ctx, id);
}

/** Has the domain of a letter that is about to leave checked anew unless that was just done, so that a record that broke is seen before. */
async function freshenDomain(ctx: Context, id: string): Promise<void> {
  const letter = await ctx.db
    .selectFrom('letters as l')
    .innerJoin('senders as s', 's.id', 'l.sender_id')
    .select(['l.newsletter_id', 's.domain'])
    .where('l.id', '=', id)
    .where('l.state', 'in', ['scheduled', 'held'])
    .executeTakeFirst();
  if (letter) await freshenFor(ctx, letter.newsletter_id, letter.domain);
}

async function mayStart(ctx: Context, db: Db, id: string): Promise<boolean> {
  const now = ctx.clock.now();
  const letter = await db
    .selectFrom('letters as l')
    .innerJoin('newsletters as n', 'n.id', 'l.newsletter_id')
    .select(['l.id', 'l.state', 'l.newsletter_id', 'l.sender_id', 'l.post_id', 'l.audience', 'l.subjects', 'n.time_zone'])
    .where('l.id', '=', id)
    .where('l.state', 'in', ['scheduled', 'held', 'starting'])
    .where('l.due_at', '<=', now)
    .where('n.closing_at', 'is', null)
    .forUpdate('l')
    .skipLocked()
    .executeTakeFirst();
  if (!letter) return false;
  const sender = await db.selectFrom('senders').selectAll().where('id', '=', letter.sender_id).executeTakeFirst();
  const domain = sender
    ? await db
        .selectFrom('domains')
        .select(['id', 'state', 'name'])
        .where('newsletter_id', '=', letter.newsletter_id)
        .where('name', '=', sender.domain)
        .executeTakeFirst()
    : undefined;
  const { missing } = await readyAudience(ctx, db, { id: letter.newsletter_id, time_zone: letter.time_zone }, letter.audience);
  const post = letter.post_id
    ? await db.selectFrom('posts').select(['document', 'link', 'goes']).where('id', '=', letter.post_id).executeTakeFirst()
    : undefined;
  const amiss = post && amissOf(post, letter.subjects);
  const lost = post
    ? (
        await readyAudience(
          ctx,
          db,
          { id: letter.newsletter_id, time_zone: letter.time_zone },
          partsOf(segmentsIn(post.document)),
        )
      ).missing.length > 0
    : false;
  const hold = !letter.post_id
    ? 'Its post was deleted. Nothing has left.'
    : amiss
      ? `${amiss.title}. ${amiss.words} Nothing has left.`
      : missing.length
        ? `Whom it is for names a ${missing[0] === 'circle' ? 'segment that leads back to itself' : `${missing[0]} that is no longer there`}. Nothing has left.`
        : lost
          ? 'A part of it is for a segment that is no longer there. Nothing has left.'
          : holdReason(sender, domain);
  if (hold) {
    await moveLetter(ctx, db, id, 'hold', hold, { due_at: new Date(now.getTime() + HOLD_MS) });
    ctx.log.warn({ letter: id, reason: hold }, 'a letter is held');
    return false;
  }
  if (letter.state === 'starting') return true;
  await moveLetter(ctx, db, id, 'start', null, { started_at: now });
  await db
    .updateTable('letters')
    .set({
      sent_on: sql`coalesce(sent_on, ${now.toISOString().slice(0, 10)}::date)`,
      from_name: sender!.name,
      from_address: sender!.address,
      reply_to: sender!.reply_to,
      domain_id: domain!.id,
    })
    .where('id', '=', id)
    .execute();
  return true;
}

/** What keeps a letter that was written here from leaving. What a feed brings is as its writer published it. */
function amissOf(post: { document: Document; link: string | null }, subjects: string[]): Check | undefined {
  if (post.link !== null) return undefined;
  const checks = checksOf({ document: post.document, subject: subjects[0] ?? '', previewLine: '' });
  return checks.find((one) => one.tone === 'stop');
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

/** How a letter that has not begun would look, were it to leave now; null where its post is gone. */
export async function previewOf(
  ctx: Context,
  newsletter: Newsletter,
  letterId: string,
): Promise<{ html: string; text: string } | null> {
  const letter = await ctx.db
    .selectFrom('letters')
    .select(['post_id', 'layout_id', 'preview_line', 'subjects', 'own_text', 'due_at'])
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', letterId)
    .executeTakeFirst();
  if (!letter?.post_id) return null;
  return drawn(await laidOut(ctx, ctx.db, newsletter, letter));
}

async function fixRecipients(ctx: Context, id: string): Promise<void> {
  const now = ctx.clock.now();
  const row = await ctx.db
    .selectFrom('letters')
    .selectAll()
    .where('id', '=', id)
    .where('state', '=', 'starting')
    .executeTakeFirst();
  if (!row?.sent_on) return;
  const newsletter = await ctx.db
    .selectFrom('newsletters')
    .selectAll()
    .where('id', '=', row.newsletter_id)
    .executeTakeFirstOrThrow();
  // Made outside the transaction: rendering takes its time, and nothing of it depends on the recipients.
  const laid = await laidOut(ctx, ctx.db, newsletter, row);
  const { chips, segments } = laid;
  const rendered = await drawn(laid);
  // Where clicks are not counted, links lead straight to where they point.
  const { html, links } = newsletter.count_clicks ? takeLinks(rendered.html) : { html: rendered.html, links: [] };
  await sql`select ensure_month(${row.sent_on}::date)`.execute(ctx.db);
  const started = ctx.db.transaction().execute(async (trx) => {
    const letter = await trx
      .selectFrom('letters')
      .selectAll()
      .where('id', '=', id)
      .where('state', '=', 'starting')
      .forUpdate()
      .skipLocked()
      .executeTakeFirst();
    if (!letter?.sent_on) return;
    await sql`set local work_mem = '128MB'`.execute(trx);
    // Right after an import the planner knows nothing of the new rows yet, and would look each reader up among all.
    if (letter.audience.to.some((part) => part.kind !== 'readers')) await sql`set local enable_nestloop = off`.execute(trx);
    if (links.length)
      await trx
        .insertInto('letter_links')
        .values(links.map((url, position) => ({ letter_id: id, position, url })))
        .execute();
    const of = { letterId: id, newsletterId: newsletter.id, sentOn: letter.sent_on, now };
    const ready = await readyAudience(ctx, trx, newsletter, letter.audience);
    // Deleted since it was looked at: the next look holds the letter. Without what it takes away it would go to too many.
    const parts = await readyAudience(ctx, trx, newsletter, partsOf(segments));
    if (ready.missing.length || parts.missing.length) return;
    const fields = [...new Set(chips.map((chip) => chip.field))];
    const pace = await paceOf(trx, newsletter, letter.departure, now);
    const recipients = await insertRecipients(trx, {
      ...of,
      ready,
      variants: letter.subjects.length,
      fields,
      parts,
      segments,
      pace,
    });
    // Rolled back, links and all: what its writer meant for somebody goes to somebody, or waits. A rule's letter to a list that is empty yet goes to
    // nobody, and whoever asked for a pause is passed by, even if they are all.
    if (recipients === 0 && !letter.auto_send_id && !(await someRest(trx, of, ready))) throw new ForNobody();
    await sql`set local enable_nestloop = on`.execute(trx);
    const domain = await trx.selectFrom('domains').select(['id', 'ramp']).where('id', '=', letter.domain_id).executeTakeFirst();
    if (domain?.ramp)
      await spreadByRamp(trx, { ...of, domainId: domain.id, ramp: domain.ramp, zone: newsletter.time_zone, recipients });
    await queue(trx, of);
    await trx
      .updateTable('letters')
      .set({
        html,
        text: rendered.text,
        chips: JSON.stringify(chips),
        counts_opens: newsletter.count_opens,
        counts_clicks: newsletter.count_clicks,
      })
      .where('id', '=', id)
      .execute();
    // Its page stands from the moment at which it leaves, unless it stood before.
    await trx
      .updateTable('posts')
      .set({ published_at: now })
      .where('id', '=', row.post_id)
      .where('goes', '=', 'both')
      .where('published_at', 'is', null)
      .execute();
    await moveLetter(ctx, trx, id, 'fix recipients');
    ctx.log.info({ letter: id, recipients }, 'a letter starts');
  });
  await started.catch(async (error) => {
    if (!(error instanceof ForNobody)) throw error;
    const cause = 'Nobody would get it: whoever it is for has left, is out of reach or was taken out. Nothing has left.';
    await ctx.db
      .transaction()
      .execute((trx) => moveLetter(ctx, trx, id, 'hold', cause, { due_at: new Date(now.getTime() + HOLD_MS) }));
  });
}

/** Is there anybody in an audience who reads and asked for a pause? */
async function someRest(db: Db, { newsletterId, now }: Of, ready: Ready): Promise<boolean> {
  const { rows } = await sql`
    select 1 from (${audienceSql(newsletterId, ready)}) audience (id) join readers r on r.id = audience.id
    where r.newsletter_id = ${newsletterId}::uuid and r.standing = 'reading' and r.paused_until > ${now}::timestamptz limit 1`.execute(
    db,
  );
  return rows.length > 0;
}

/** A letter that would start for no one. */
class ForNobody extends Error {}

type Of = { letterId: string; newsletterId: string; sentOn: string; now: Date };

/** When each recipient is due, as SQL on a row `r` of `readers`: never before now. */
async function paceOf(db: Db, newsletter: { id: string }, departure: Departure | null, now: Date): Promise<RawBuilder<unknown>> {
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

/**
 * Who gets a letter, fixed by one INSERT … SELECT: everyone in its audience who reads, may be written to and has not asked for a pause, each once. Suppression beats every
 * selection. In the order in which they came, so that neighbours here are neighbours there, when each is written to. Their route is that of their domain as far as it was ever known, or the newsletter's relay; what was known long ago is looked up again
 * while they leave. Returns how many.
 */
async function insertRecipients(
  db: Db,
  to: Of & { ready: Ready; variants: number; fields: string[]; parts: Ready; segments: string[]; pace: RawBuilder<unknown> },
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
  const result = await sql`
    insert into deliveries (sent_on, newsletter_id, letter_id, reader_id, address, domain_id, route_id, variant, chips, due_at)
    select ${to.sentOn}::date, r.newsletter_id, ${to.letterId}::uuid, r.id, r.address, r.domain_id,
      coalesce((select x.id from relays y join routes x on x.newsletter_id = y.newsletter_id where y.newsletter_id = ${to.newsletterId}::uuid and y.switched_on),
               case when d.state = 'fine' then d.route_id end),
      ${to.variants > 1 ? sql`(row_number() over (order by hashtextextended(r.id::text, 7)) % ${to.variants})::smallint` : sql`0`}, ${chips}, ${to.pace}
    from (${audienceSql(to.newsletterId, to.ready)}) audience (id)
    join readers r on r.id = audience.id join mail_domains d on d.id = r.domain_id
    where r.newsletter_id = ${to.newsletterId}::uuid and r.standing = 'reading'
      and (r.paused_until is null or r.paused_until <= ${to.now}::timestamptz) and not exists (select 1 from suppressions s where s.newsletter_id = r.newsletter_id and s.address_key = r.address_key)
    order by r.id on conflict do nothing`.execute(db);
  return Number(result.numAffectedRows ?? 0);
}

/** Puts a letter's deliveries in their routes' queues, counts them by domain, and asks for the routes that are not known. */
async function queue(db: Db, { letterId, newsletterId, sentOn, now }: Of): Promise<void> {
  await sql`
    insert into route_jobs (route_id, letter_id, newsletter_id, sent_on, next_due, turn)
    select q.route_id, ${letterId}::uuid, ${newsletterId}::uuid, ${sentOn}::date, q.due, coalesce((select min(turn) from route_jobs j where j.route_id = q.route_id), 0)
    from (select route_id, min(due_at) as due from deliveries where letter_id = ${letterId} and sent_on = ${sentOn}::date and state = 'queued' and route_id is not null
          group by 1 order by 1) q on conflict do nothing`.execute(db);
  await sql`
    update routes r set due_at = least(coalesce(r.due_at, q.next_due), q.next_due) from (select route_id, next_due from route_jobs where letter_id = ${letterId} order by route_id) q
    where r.id = q.route_id and (r.due_at is null or r.due_at > q.next_due)`.execute(db);
  await sql`
    with counted as (select q.domain_id, q.n, case when q.lost > 0 or d.look_at <= ${now} then q.n else 0 end as lost from (
      select domain_id, count(*)::int as n, count(*) filter (where route_id is null)::int as lost from deliveries
      where letter_id = ${letterId} and sent_on = ${sentOn}::date and state = 'queued' group by 1) q join mail_domains d on d.id = q.domain_id),
    ranked as (select *, row_number() over (order by n desc, domain_id) as place from counted),
    kept as (insert into letter_sums (newsletter_id, letter_id, domain_id, recipients)
      select ${newsletterId}::uuid, ${letterId}::uuid, case when place <= ${DOMAINS_COUNTED} then domain_id else 0 end, sum(n) from ranked group by 3)
    update mail_domains d set wanted = c.lost from (select domain_id, lost from counted where lost > 0 order by domain_id) c where d.id = c.domain_id`.execute(
    db,
  );
}
