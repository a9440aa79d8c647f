import { sql } from 'kysely';
import { type Check, checksOf } from '@/core/writing/checks';
import { type Document, segmentsIn } from '@/core/writing/document';
import { lineForAll } from '@/core/writing/line';
import { takeLinks } from '@/core/writing/render';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import { mailOwners } from '../newsletters/alerts';
import { freshenFor } from '../senders/domains';
import { audienceSql, type Ready, readyAudience } from './audience';
import { drawn, laidOut, unique } from './laid-out';
import { settleLane } from './lanes';
import { moveLetter } from './letters';
import { partsOf } from './parts';
import { spreadByRamp } from './ramp';
import { countRamp } from './ramp-days';
import { insertRecipients, nextCopy, type Of, paceOf, queue } from './recipients';
import { lastDue } from './results';
import { amissOfVersions, versionsOf } from './versions';

/** How long a letter that may not leave yet waits before it is tried again. */
const HOLD_MS = 5 * 60_000;

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
    .select([
      'l.id',
      'l.state',
      'l.newsletter_id',
      'l.sender_id',
      'l.post_id',
      'l.audience',
      'l.subject',
      'l.test',
      'n.time_zone',
    ])
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
  const amiss = post && amissOf(post, letter.subject);
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
  const versions = letter.test ? await versionsOf(db, id) : [];
  const tried = amissOfVersions(
    letter.test,
    { subject: letter.subject, senderId: letter.sender_id },
    versions,
    sender?.domain ?? null,
  );
  const hold = !letter.post_id
    ? 'Its post was deleted. Nothing has left.'
    : amiss
      ? `${amiss.title}. ${amiss.words} Nothing has left.`
      : missing.length
        ? `Whom it is for names a ${missing[0] === 'circle' ? 'segment that leads back to itself' : `${missing[0]} that is no longer there`}. Nothing has left.`
        : lost
          ? 'A part of it is for a segment that is no longer there. Nothing has left.'
          : (holdReason(sender, domain) ?? (tried && `${tried} Nothing has left.`));
  if (hold) {
    await holdLetter(ctx, db, id, hold);
    ctx.log.warn({ letter: id, reason: hold }, 'a letter is held');
    return false;
  }
  if (letter.state === 'starting') return true;
  await moveLetter(ctx, db, id, 'start', null, { started_at: now });
  await db
    .updateTable('letters')
    .set({
      told_causes: [],
      sent_on: sql`coalesce(sent_on, ${now.toISOString().slice(0, 10)}::date)`,
      from_name: sender!.name,
      from_address: sender!.address,
      reply_to: sender!.reply_to,
      domain_id: domain!.id,
    })
    .where('id', '=', id)
    .execute();
  // From whom each version is, as it is now.
  await sql`
    update letter_versions v set from_name = s.name, from_address = s.address, reply_to = s.reply_to from senders s where s.id = v.sender_id and v.letter_id = ${id}`.execute(
    db,
  );
  return true;
}

/** Holds a letter, to be looked at again soon; its owners are told by mail, once for each cause. */
async function holdLetter(ctx: Context, db: Db, id: string, cause: string): Promise<void> {
  await moveLetter(ctx, db, id, 'hold', cause, { due_at: new Date(ctx.clock.now().getTime() + HOLD_MS) });
  const told = await sql<{ newsletter_id: string; subject: string }>`
    update letters set told_causes = array_append(told_causes, ${cause}::text) where id = ${id} and state = 'held' and ${cause} <> all(told_causes) returning newsletter_id, subject`.execute(
    db,
  );
  for (const { newsletter_id, subject } of told.rows) {
    const newsletter = await db
      .selectFrom('newsletters')
      .select(['name', 'slug'])
      .where('id', '=', newsletter_id)
      .executeTakeFirstOrThrow();
    await mailOwners(
      ctx,
      db,
      newsletter_id,
      newsletter,
      `“${lineForAll(subject) || 'A letter'}” is held back`,
      [cause, 'Nothing of it is lost. It leaves by itself once this is mended.'],
      `/letters/${id}`,
      { told: 'must know' },
    );
  }
}

/** What keeps a letter that was written here from leaving. What a feed brings is as its writer published it. */
function amissOf(post: { document: Document; link: string | null }, subject: string): Check | undefined {
  if (post.link !== null) return undefined;
  const checks = checksOf({ document: post.document, subject, previewLine: '' });
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
    .select(['post_id', 'layout_id', 'preview_line', 'subject', 'own_text', 'due_at'])
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
  const versions = row.test ? await versionsOf(ctx.db, id) : [];
  const laid = await laidOut(ctx, ctx.db, newsletter, row);
  const others = await Promise.all(
    versions.map((one) =>
      laidOut(ctx, ctx.db, newsletter, { ...row, subject: one.subject || row.subject, beginning: one.beginning }),
    ),
  );
  const chips = unique([laid, ...others].flatMap((one) => one.chips));
  const segments = [...new Set([laid, ...others].flatMap((one) => one.segments))];
  const rendered = await drawn(laid);
  // Where clicks are not counted, links lead straight to where they point.
  const links: string[] = [];
  const linked = (made: string) => (newsletter.count_clicks ? takeLinks(made, links).html : made);
  const html = linked(rendered.html);
  const beginnings = new Map<number, { html: string; text: string }>();
  for (const [n, one] of versions.entries()) {
    if (!one.beginning) continue;
    const made = await drawn(others[n]!);
    beginnings.set(one.n, { html: linked(made.html), text: made.text });
  }
  await sql`select ensure_month(${row.sent_on}::date)`.execute(ctx.db);
  // How many may leave each day hangs on what came of the days before.
  if (row.domain_id) await countRamp(ctx, row.domain_id);
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
    const ready = await readyAudience(ctx, trx, newsletter, letter.audience, letter);
    // Deleted since it was looked at: the next look holds the letter. Without what it takes away it would go to too many.
    const parts = await readyAudience(ctx, trx, newsletter, partsOf(segments));
    if (ready.missing.length || parts.missing.length) return;
    const fields = [...new Set(chips.map((chip) => chip.field))];
    const pace = await paceOf(trx, newsletter, letter.departure, now);
    const first = await nextCopy(trx);
    const recipients = await insertRecipients(trx, {
      ...of,
      ready,
      tried: letter.test ? { share: letter.test.share, versions: versions.length + 1 } : null,
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
    const tested = letter.test !== null && recipients > versions.length;
    await queue(trx, of, tested);
    for (const [n, made] of tested ? beginnings : [])
      await trx.updateTable('letter_versions').set(made).where('letter_id', '=', id).where('n', '=', n).execute();
    if (letter.test && !tested) await trx.deleteFrom('letter_versions').where('letter_id', '=', id).execute();
    const spread = domain?.ramp || (letter.departure && letter.departure.pace.kind !== 'at once');
    const span = { first_copy: first, last_copy: await nextCopy(trx), id, sent_on: letter.sent_on };
    await trx
      .updateTable('letters')
      .set({
        first_copy: span.first_copy,
        last_copy: span.last_copy,
        last_due_at: spread ? await lastDue(trx, span) : now,
        ...(letter.test && !tested ? { test: null } : {}),
        ...(letter.test && tested
          ? {
              // A ramp-up may take days for those on whom they are tried.
              decide_at: new Date(
                ((domain?.ramp && (await lastDue(trx, span, 'queued'))) || now).getTime() + letter.test.hours * 3_600_000,
              ),
            }
          : {}),
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
    await settleLane(ctx, trx, letter);
    await moveLetter(ctx, trx, id, 'fix recipients');
    ctx.log.info({ letter: id, recipients }, 'a letter starts');
  });
  await started.catch(async (error) => {
    if (!(error instanceof ForNobody)) throw error;
    const cause = 'Nobody would get it: whoever it is for has left, is out of reach or was taken out. Nothing has left.';
    await ctx.db.transaction().execute((trx) => holdLetter(ctx, trx, id, cause));
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
