import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import type { Audience } from '@/core/sending/audience';
import type { Departure } from '@/core/sending/departure';
import type { LetterState } from '@/core/sending/letter-state';
import type { LetterTest } from '@/core/sending/letter-test';
import { nextAct, SHELF_STATES, SHELVES, type Shelf, type Standing } from '@/core/sending/next-act';
import type { Context, Newsletter } from '../context';
import type { KeptVerdict } from '../db/schema';
import { restingFor, restingUntil, routeName } from '../mail/routes';

export type LetterRow = {
  id: string;
  subject: string;
  state: LetterState;
  dueAt: Date;
  startedAt: Date | null;
  /** Why it is where it is: what holds it, who paused or stopped it. */
  cause: string | null;
  audience: Audience;
  /** What was counted of it, as its newsletter wished. */
  counted: { opens: boolean; clicks: boolean };
  counts: {
    recipients: number;
    delivered: number;
    bounced: number;
    refused: number;
    givenUp: number;
    cancelled: number;
    people: number;
    machines: number;
    clicked: number;
    left: number;
    complained: number;
    /** Opened by a machine and by nobody else. */
    hidden: number;
  };
};

type Raw = {
  id: string;
  subject: string;
  state: LetterState;
  due_at: Date;
  started_at: Date | null;
  cause: string | null;
  audience: Audience;
  counts_opens: boolean;
  counts_clicks: boolean;
} & Record<
  | 'recipients'
  | 'delivered'
  | 'bounced'
  | 'refused'
  | 'given_up'
  | 'cancelled'
  | 'opened_people'
  | 'opened_machines'
  | 'clicked'
  | 'left_count'
  | 'complained'
  | 'hidden',
  number
>;

const COUNTS = sql`coalesce(c.recipients, 0) as recipients, coalesce(c.delivered, 0) as delivered, coalesce(c.bounced, 0) as bounced, coalesce(c.refused, 0) as refused,
  coalesce(c.given_up, 0) as given_up, coalesce(c.cancelled, 0) as cancelled, coalesce(c.opened_people, 0) as opened_people, coalesce(c.opened_machines, 0) as opened_machines,
  coalesce(c.clicked, 0) as clicked, coalesce(c.left_count, 0) as left_count, coalesce(c.complained, 0) as complained, coalesce(c.hidden, 0) as hidden`;

export type Listed = LetterRow & { next: string; goes: 'both' | 'letter' | 'page'; away: boolean };

/**
 * A newsletter's letters on a shelf, the latest first, each with what it needs next; `before` is the letter after which they go on. What is put away stands
 * on its own shelf alone.
 */
export async function lettersOf(
  ctx: Context,
  newsletter: Newsletter,
  {
    most = 50,
    shelf = 'all',
    before = null,
    drafts = true,
  }: { most?: number; shelf?: Shelf; before?: string | null; drafts?: boolean } = {},
): Promise<{ letters: Listed[]; more: string | null }> {
  const states = SHELF_STATES[shelf];
  const { rows } = await sql<
    Raw & {
      sender: Standing['sender'];
      empty: boolean;
      waits: boolean;
      goes: Standing['goes'] | null;
      published: boolean;
      archived_at: Date | null;
    }
  >`
    select l.*, ${COUNTS}, case when s.id is null then 'none' when s.confirmed_at is null then 'unconfirmed' else 'fine' end as sender,
      l.waits, p.goes, p.published_at is not null as published, coalesce(jsonb_array_length(p.document->'nodes') = 0 and p.title = '', false) as empty
    from (select id, subject, state, due_at, started_at, cause, audience, counts_opens, counts_clicks, sender_id, post_id, archived_at, verdict is not null and winner is null as waits from letters
      where newsletter_id = ${newsletter.id} and archived_at is ${shelf === 'away' ? sql`not null` : sql`null`}
        and ${states ? sql`state = any(${states}::text[])` : drafts ? sql`true` : sql`state <> 'draft'`}
        and ${before ? sql`(due_at, id) < (select b.due_at, b.id from letters b where b.newsletter_id = ${newsletter.id} and b.id = ${before})` : sql`true`}
      order by due_at desc, id desc limit ${most + 1}) l
    left join posts p on p.id = l.post_id left join senders s on s.id = l.sender_id
    left join lateral (select * from letter_counts c where c.letter_id = l.id) c on true order by l.due_at desc, l.id desc`.execute(
    ctx.db,
  );
  const shown = rows.slice(0, most);
  return {
    letters: shown.map((row) => {
      const letter = letterRow(row);
      const { subject, state, cause } = letter;
      const goes = row.goes ?? 'letter';
      const { sender, empty, published, waits } = row;
      const next = nextAct({ state, subject, cause, sender, empty, goes, published, waits });
      return { ...letter, next, goes, away: row.archived_at !== null };
    }),
    more: rows.length > most ? (shown.at(-1)?.id ?? null) : null,
  };
}

/** How many letters stand on each shelf. */
export async function shelvesOf(ctx: Context, newsletter: Newsletter): Promise<Record<Shelf, number>> {
  const { rows } = await sql<{ state: LetterState; here: number; away: number }>`
    select state, count(*) filter (where archived_at is null)::int as here, count(*) filter (where archived_at is not null)::int as away
    from letters where newsletter_id = ${newsletter.id} group by 1`.execute(ctx.db);
  const sum = (states?: LetterState[]) =>
    rows.filter((row) => !states || states.includes(row.state)).reduce((all, row) => all + row.here, 0);
  const counts = Object.fromEntries(SHELVES.map((shelf) => [shelf, sum(SHELF_STATES[shelf])])) as Record<Shelf, number>;
  return { ...counts, away: rows.reduce((all, row) => all + row.away, 0) };
}

/** How many copies of letters that have left were delivered, and how many letters those are. */
export async function sentOf(ctx: Context, newsletter: Newsletter): Promise<{ letters: number; delivered: number }> {
  const { rows } = await sql<{ letters: number; delivered: number }>`
    select count(*)::int as letters, coalesce(sum(c.delivered), 0)::int as delivered from letters l
    left join lateral (select delivered from letter_counts c where c.letter_id = l.id) c on true
    where l.newsletter_id = ${newsletter.id} and l.state = 'sent'`.execute(ctx.db);
  return rows[0]!;
}

export type LetterDetail = LetterRow & {
  previewLine: string;
  senderId: string | null;
  departure: Departure | null;
  away: boolean;
  from: string | null;
  html: string | null;
  text: string | null;
  links: { position: number; url: string; clicks: number }[];
  /** How its versions are tried; null where it has but one. */
  test: LetterTest | null;
  decideAt: Date | null;
  verdict: KeptVerdict | null;
  /** The version that the rest gets. */
  winner: number | null;
  /** The letter that it is once more. */
  againOf: string | null;
  domains: {
    domain: string;
    recipients: number;
    delivered: number;
    bounced: number;
    waiting: number;
    people: number;
    clicked: number;
    left: number;
  }[];
  problems: { address: string; response: string | null; state: string }[];
  /** Ways that rest, with the reason and until when. */
  resting: { name: string; reason: string | null; until: Date }[];
};

/** One letter with its links, its way by mailbox provider, and what went wrong. */
export async function letterOf(ctx: Context, newsletter: Newsletter, id: string): Promise<LetterDetail> {
  const { rows } = await sql<
    Raw & {
      preview_line: string;
      sender_id: string | null;
      departure: Departure | null;
      from_name: string | null;
      from_address: string | null;
      html: string | null;
      text: string | null;
      sent_on: string | null;
      archived_at: Date | null;
      test: LetterTest | null;
      decide_at: Date | null;
      verdict: KeptVerdict | null;
      winner: number | null;
      again_of: string | null;
    }
  >`select l.*, ${COUNTS} from letters l left join lateral (select * from letter_counts c where c.letter_id = l.id) c on true
    where l.newsletter_id = ${newsletter.id} and l.id = ${id}`.execute(ctx.db);
  const row = rows[0];
  if (!row) throw new Fault('not-found', 'There is no such letter.');
  const [links, domains, problems, resting] = await Promise.all([
    ctx.db
      .selectFrom('letter_links')
      .select(['position', 'url', 'clicks'])
      .where('letter_id', '=', row.id)
      .orderBy('clicks', 'desc')
      .orderBy('position')
      .execute(),
    sql<LetterDetail['domains'][number]>`
      select coalesce(d.name, 'all others') as domain, c.recipients, c.delivered, c.bounced + c.refused + c.given_up as bounced,
        c.opened_people as people, c.clicked, c.left_count as left, greatest(0, c.recipients - c.delivered - c.bounced - c.refused - c.given_up - c.cancelled) as waiting
      from letter_domain_counts c left join mail_domains d on d.id = c.domain_id where c.letter_id = ${row.id} order by (c.domain_id = 0), c.recipients desc limit 12`.execute(
      ctx.db,
    ),
    problemsOf(ctx, row.id, row.sent_on, row.state),
    sql<LetterDetail['resting'][number]>`
      select ${routeName} as name, ${restingFor} as reason, ${restingUntil} as until from route_jobs j join routes r on r.id = j.route_id
      where j.letter_id = ${row.id} and ${restingUntil} > ${ctx.clock.now()} order by 3 limit 8`.execute(ctx.db),
  ]);
  return {
    ...letterRow(row),
    previewLine: row.preview_line,
    senderId: row.sender_id,
    departure: row.departure,
    away: row.archived_at !== null,
    from: row.from_address ? `${row.from_name} <${row.from_address}>` : null,
    html: row.html,
    text: row.text,
    test: row.test,
    decideAt: row.decide_at,
    verdict: row.verdict,
    winner: row.winner,
    againOf: row.again_of,
    links,
    domains: domains.rows,
    problems,
    resting: resting.rows,
  };
}

async function problemsOf(ctx: Context, letterId: string, sentOn: string | null, state: LetterState) {
  if (!sentOn) return [];
  const { rows: failed } = await sql<{ address: string; response: string | null; state: string }>`
    select address, response, state from deliveries where letter_id = ${letterId} and sent_on = ${sentOn}::date
      and state in ('bounced', 'refused', 'given up') order by id limit 50`.execute(ctx.db);
  if (failed.length >= 50 || (state !== 'sending' && state !== 'paused')) return failed;
  // Of those that wait, the ones that were told to; there are few beside those that were not tried yet, and they have an index of their own.
  const { rows: waiting } = await sql<{ address: string; response: string | null; state: string }>`
    select address, response, state from deliveries where letter_id = ${letterId} and sent_on = ${sentOn}::date and state = 'queued' and tried_at is not null
      and response is not null limit ${50 - failed.length}`.execute(ctx.db);
  return [...failed, ...waiting];
}

function letterRow(row: Raw): LetterRow {
  return {
    id: row.id,
    subject: row.subject,
    state: row.state,
    dueAt: row.due_at,
    startedAt: row.started_at,
    cause: row.cause,
    audience: row.audience,
    counted: { opens: row.counts_opens, clicks: row.counts_clicks },
    counts: {
      recipients: row.recipients,
      delivered: row.delivered,
      bounced: row.bounced,
      refused: row.refused,
      givenUp: row.given_up,
      cancelled: row.cancelled,
      people: row.opened_people,
      machines: row.opened_machines,
      clicked: row.clicked,
      left: row.left_count,
      complained: row.complained,
      hidden: row.hidden,
    },
  };
}
