import { sql } from 'kysely';
import { REASONS, type Reason } from '@/core/delivery/reason';
import { csvRow } from '@/core/importing/rows';
import { folded } from '@/core/readers/condition';
import { type Counted, CURVE_HOURS, figuresOf, type LetterFigures, usualCurve } from '@/core/sending/result';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import { likeOf } from '../readers/table';

/* What became of a letter's copies: its first two days by the hour, and by its versions. */

type Copies = { id: string; sent_on: string; started_at: Date; first_copy: string; last_copy: string };

/** A letter's copies, as SQL on a row `d` of `deliveries`: they stand together, so that they are found without an index of their own. */
const copiesOf = (letter: Omit<Copies, 'started_at'>) =>
  sql`d.sent_on = ${letter.sent_on}::date and d.id between ${letter.first_copy}::bigint and ${letter.last_copy}::bigint and d.letter_id = ${letter.id}::uuid`;

/** Says of a newsletter's letters between which numbers their copies stand, where those were put there otherwise than by a start. */
export async function setCopySpans(db: Db, newsletterId: string): Promise<void> {
  await sql`
    update letters l set first_copy = d.first, last_copy = d.last from (
      select sent_on, letter_id, min(id) as first, max(id) as last from deliveries where newsletter_id = ${newsletterId}::uuid group by 1, 2) d
    where d.letter_id = l.id and d.sent_on = l.sent_on and l.newsletter_id = ${newsletterId}::uuid`.execute(db);
}

/** When the last of a letter's copies is due, or of those in a state. */
export async function lastDue(db: Db, letter: Omit<Copies, 'started_at'>, state?: 'queued'): Promise<Date | null> {
  const { rows } = await sql<{
    last: Date | null;
  }>`select max(d.due_at) as last from deliveries d where ${copiesOf(letter)} and ${state ? sql`d.state = ${state}` : sql`true`}`.execute(
    db,
  );
  return rows[0]?.last ?? null;
}

/** A letter's copies in groups, those left out that wait for the end of a test. One pass over all of them. */
export async function countedCopies(db: Db, letter: Copies): Promise<Counted[]> {
  const hour = (column: string) =>
    sql`least(${CURVE_HOURS}, floor(extract(epoch from ${sql.ref(`d.${column}`)} - ${letter.started_at}::timestamptz) / 3600))::int`;
  const { rows } = await sql<Counted>`
    select d.variant, d.state = 'delivered' as delivered, d.state in ('queued', 'claimed') as waiting, d.state in ('bounced', 'refused', 'given up') as back, ${hour('opened_at')} as "readHour", ${hour('clicked_at')} as "clickHour",
      d.opened_at is not null as read, d.clicked_at is not null as clicked, count(*)::int as n
    from deliveries d where ${copiesOf(letter)} and d.state <> 'kept' group by 1, 2, 3, 4, 5, 6, 7, 8`.execute(db);
  return rows;
}

/** After this long a letter's first two days are over, and its figures stay as they are. */
const OVER_MS = (CURVE_HOURS + 1) * 3_600_000;
/**
 * Figures are made anew once they are older than a thirtieth of their letter, and not sooner than this; and than so many times as long as it took to make
 * them, so that a letter to a million is not held up by being counted.
 */
const SOON_MS = 10_000;
const TIMES_THEIR_COST = 150;

/** The letters in their first two days whose figures are to be made anew, each the less often the older it is. */
export async function figuresDue(ctx: Context): Promise<{ id: string }[]> {
  const now = ctx.clock.now();
  const seconds = (ms: number) => sql`${ms / 1_000} * interval '1 second'`;
  const { rows } = await sql<{ id: string }>`
    select id from letters where first_copy is not null and state in ('sending', 'paused', 'stopped', 'sent') and started_at <= ${now}::timestamptz
      and (figures_at is null or figures_at > ${now}::timestamptz or (figures_at < started_at + ${seconds(OVER_MS)}
        and ${now}::timestamptz - figures_at > greatest(${seconds(SOON_MS)}, (${now}::timestamptz - started_at) / 30, figures_ms * ${TIMES_THEIR_COST} * interval '1 millisecond')))
    order by figures_at nulls first limit 5`.execute(ctx.db);
  return rows;
}

/** Makes a letter's figures anew and keeps them. */
export async function keepFigures(ctx: Context, id: string): Promise<void> {
  const { rows } = await sql<Copies & { versions: number }>`
    select l.id, l.sent_on, l.started_at, l.first_copy, l.last_copy, 1 + (select count(*)::int from letter_versions v where v.letter_id = l.id) as versions
    from letters l where l.id = ${id} and l.first_copy is not null`.execute(ctx.db);
  for (const letter of rows) {
    const began = performance.now();
    // One that cannot be counted stands back behind the others, and comes again when it is due.
    await ctx.db.updateTable('letters').set({ figures_at: ctx.clock.now() }).where('id', '=', letter.id).execute();
    const figures = figuresOf(await countedCopies(ctx.db, letter), letter.versions);
    const figures_ms = Math.round(performance.now() - began);
    await ctx.db
      .updateTable('letters')
      .set({ figures: JSON.stringify(figures), figures_at: ctx.clock.now(), figures_ms })
      .where('id', '=', letter.id)
      .execute();
  }
}

/** So many letters before are what one's usual is taken from. */
const FORMER = 12;

/** How a letter was read in its first two days, beside one's usual: each as far as it is known. */
export async function curveOf(
  ctx: Context,
  newsletter: Newsletter,
  id: string,
): Promise<{ figures: LetterFigures | null; at: Date | null; usual: number[] | null; former: number }> {
  const own = await ctx.db
    .selectFrom('letters')
    .select(['figures', 'figures_at', 'started_at'])
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', id)
    .executeTakeFirst();
  const { rows } = await sql<{ figures: LetterFigures; delivered: number }>`
    select l.figures, c.delivered from (
      select id, figures, started_at from letters where newsletter_id = ${newsletter.id} and id <> ${id} and figures is not null and counts_opens
        and started_at < ${own?.started_at ?? ctx.clock.now()}::timestamptz and figures_at >= started_at + ${CURVE_HOURS} * interval '1 hour'
      order by due_at desc limit ${FORMER}) l
    join lateral (select delivered from letter_counts c where c.letter_id = l.id) c on true order by l.started_at desc`.execute(
    ctx.db,
  );
  return {
    figures: own?.figures ?? null,
    at: own?.figures_at ?? null,
    usual: usualCurve(rows.map((row) => ({ delivered: row.delivered, reads: row.figures.reads }))),
    former: rows.length,
  };
}

/** The share of those who get a letter that usually opens it, and that follows a link: the middle of the last letters; null before there was one. */
export async function usualRates(ctx: Context, newsletter: Newsletter): Promise<{ opens: number | null; clicks: number | null }> {
  const { rows } = await sql<{ opens: number | null; clicks: number | null }>`
    select percentile_cont(0.5) within group (order by c.opened_people::float8 / c.delivered) filter (where l.counts_opens) as opens,
      percentile_cont(0.5) within group (order by c.clicked::float8 / c.delivered) filter (where l.counts_clicks) as clicks
    from (select id, counts_opens, counts_clicks from letters where newsletter_id = ${newsletter.id} and state = 'sent' order by due_at desc limit ${FORMER}) l
    join lateral (select * from letter_counts c where c.letter_id = l.id) c on c.delivered > 0`.execute(ctx.db);
  return rows[0] ?? { opens: null, clicks: null };
}

/** What a letter's recipients can be narrowed to. */
export const RECIPIENT_SHELVES = [
  'all',
  'delivered',
  'read',
  'unread',
  'hidden',
  'clicked',
  'waiting',
  'back',
  'cancelled',
  'left',
] as const;
export type RecipientShelf = (typeof RECIPIENT_SHELVES)[number];
export const SHELF_WORDS: Record<RecipientShelf, string> = {
  all: 'All',
  delivered: 'Delivered',
  read: 'Read',
  unread: 'Not opened',
  hidden: 'Hidden by a machine',
  clicked: 'Clicked',
  waiting: 'Waiting',
  back: 'Came back',
  cancelled: 'Cancelled',
  left: 'Left',
};
const SHELF_SQL: Record<RecipientShelf, ReturnType<typeof sql>> = {
  all: sql`true`,
  delivered: sql`d.state = 'delivered'`,
  read: sql`d.opened_at is not null`,
  unread: sql`d.state = 'delivered' and d.opened_at is null and d.opened_by_machine_at is null and d.clicked_at is null`,
  hidden: sql`d.opened_at is null and d.opened_by_machine_at is not null`,
  clicked: sql`d.clicked_at is not null`,
  waiting: sql`d.state in ('kept', 'queued', 'claimed')`,
  back: sql`d.state in ('bounced', 'refused', 'given up')`,
  cancelled: sql`d.state = 'cancelled'`,
  left: sql`d.left_at is not null`,
};

export type RecipientRow = {
  copy: string;
  readerId: string;
  /** Is there still such a reader? */
  known: boolean;
  address: string;
  state: 'kept' | 'queued' | 'claimed' | 'delivered' | 'bounced' | 'refused' | 'given up' | 'cancelled';
  version: number;
  due: Date;
  delivered: Date | null;
  opened: Date | null;
  byMachine: Date | null;
  clicked: Date | null;
  left: Date | null;
  /** Why its server said no, where it did last, and in which words. */
  reason: Reason | null;
  response: string | null;
};

/** What of a letter's counts says how many stand on a shelf; who has not opened it is only known by looking. */
const SHELF_COUNT: Partial<Record<RecipientShelf, ReturnType<typeof sql>>> = {
  read: sql`opened_people`,
  hidden: sql`hidden`,
  clicked: sql`clicked`,
  waiting: sql`recipients - delivered - bounced - refused - given_up - cancelled`,
  back: sql`bounced + refused + given_up`,
  cancelled: sql`cancelled`,
  left: sql`left_count`,
};

/** Of so many readers behind a part of an address each copy is looked up; with more of them the copies are gone through. */
const FEW = 2_000;

/** The readers behind a part of an address, or its beginning where it is short; null for too many of them. */
async function readersBehind(db: Db, newsletterId: string, like: string): Promise<string[] | null> {
  const { rows } = await sql<{ id: string }>`
    select id from readers where newsletter_id = ${newsletterId}::uuid and address_key like ${like} limit ${FEW + 1}`.execute(db);
  return rows.length > FEW ? null : rows.map((row) => row.id);
}

/**
 * A letter's recipients in the order in which they were fixed, after one of them, by its copy's number; `find` is a part of the address that they have now, or
 * its beginning where it is short. Nothing before it has begun.
 */
export async function recipientsOf(
  ctx: Context,
  newsletter: Newsletter,
  id: string,
  {
    shelf = 'all',
    find = '',
    after = null,
    most = 100,
  }: { shelf?: RecipientShelf; find?: string; after?: string | null; most?: number },
): Promise<{ rows: RecipientRow[]; more: string | null }> {
  const nobody = { rows: [], more: null };
  const letter = await ctx.db
    .selectFrom('letters')
    .select(['id', 'sent_on', 'first_copy', 'last_copy'])
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', id)
    .executeTakeFirst();
  if (!letter?.sent_on || !letter.first_copy || !letter.last_copy) return nobody;
  const known = SHELF_COUNT[shelf];
  if (known) {
    const { rows } = await sql<{ n: number }>`select ${known} as n from letter_counts where letter_id = ${id}`.execute(ctx.db);
    // Nobody is not looked for among a million.
    if (!rows[0]?.n) return nobody;
  }
  const words = folded(find.trim());
  const like = [...words].length < 3 ? `${likeOf(words)}%` : `%${likeOf(words)}%`;
  const few = words ? await readersBehind(ctx.db, newsletter.id, like) : null;
  if (few?.length === 0) return nobody;
  const span = { ...letter, sent_on: letter.sent_on, first_copy: after ?? letter.first_copy, last_copy: letter.last_copy };
  const who = few
    ? sql`d.letter_id = ${id}::uuid and d.sent_on = ${letter.sent_on}::date and d.reader_id = any(${few}::uuid[])`
    : sql`${copiesOf(span)} and ${words ? sql`exists (select 1 from readers r where r.id = d.reader_id and r.address_key like ${like})` : sql`true`}`;
  const { rows } = await sql<RecipientRow>`
    select d.id as copy, d.reader_id as "readerId", exists (select 1 from readers r where r.id = d.reader_id) as known, d.address, d.state, d.variant as version,
      d.due_at as due, d.delivered_at as delivered, d.opened_at as opened, d.opened_by_machine_at as "byMachine", d.clicked_at as clicked, d.left_at as left, case when d.state <> 'delivered' then d.reason end as reason, d.response
    from deliveries d where ${who} and ${after ? sql`d.id > ${after}::bigint` : sql`true`} and ${SHELF_SQL[shelf]} order by d.id limit ${most + 1}`.execute(
    ctx.db,
  );
  const shown = rows.slice(0, most);
  return { rows: shown, more: rows.length > most ? shown.at(-1)!.copy : null };
}

/** So many recipients are read at once for a file. */
const CSV_PORTION = 2_000;

/** A letter's recipients as the lines of a CSV, times as ISO 8601, a portion at a time. */
export async function* recipientsCsv(
  ctx: Context,
  newsletter: Newsletter,
  id: string,
  shelf: RecipientShelf,
  find: string,
): AsyncGenerator<string> {
  yield csvRow([
    'Address',
    'State',
    'Version',
    'Delivered',
    'Opened',
    'Opened by a machine',
    'Clicked',
    'Left',
    'Why not',
    'What the mailbox said',
  ]);
  const at = (moment: Date | null) => moment?.toISOString() ?? '';
  let after: string | null = null;
  do {
    const page: { rows: RecipientRow[]; more: string | null } = await recipientsOf(ctx, newsletter, id, {
      shelf,
      find,
      after,
      most: CSV_PORTION,
    });
    yield page.rows
      .map((row) =>
        csvRow([
          row.known ? row.address : 'erased',
          row.state === 'kept' ? 'waits for the test' : row.state,
          String(row.version + 1),
          at(row.delivered),
          at(row.opened),
          at(row.byMachine),
          at(row.clicked),
          at(row.left),
          row.reason ? REASONS[row.reason][0] : '',
          row.response ?? '',
        ]),
      )
      .join('');
    after = page.more;
  } while (after !== null);
}
