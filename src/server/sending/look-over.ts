import { sql } from 'kysely';
import { FIRST_NAME } from '@/core/readers/condition';
import { type Check, type Facts, factChecks, leadsIn } from '@/core/writing/checks';
import { loses } from '@/core/writing/clean-html';
import { chipsIn, type Document, every, type Node } from '@/core/writing/document';
import { chipsOfLine } from '@/core/writing/line';
import { bytesOf, type LetterFrame, renderHtml } from '@/core/writing/render';
import { SLOT, slot } from '@/core/writing/slots';
import { renderText } from '@/core/writing/text';
import type { Context, Newsletter } from '../context';
import { answersOf } from '../fetch/answers';
import { limit } from '../limits';
import { audienceSql, readyAudience } from './audience';
import { type Drawn, laidOut, textMark } from './laid-out';
import { partsOf } from './parts';

const NAMES: Partial<Record<Node['kind'], string>> = {
  picture: 'a picture',
  gallery: 'a gallery',
  table: 'a table',
  columns: 'columns',
  html: 'HTML of your own',
  code: 'code',
  list: 'a list',
};

/** What takes the room in a letter: its largest blocks. */
const largestOf = (frame: LetterFrame, post: Document): Facts['largest'] =>
  post.nodes
    .map((node, block) => ({ block, name: NAMES[node.kind] ?? `the ${ordinal(block + 1)} block`, bytes: bytesOf(node, frame) }))
    .sort((a, b) => b.bytes - a.bytes)
    .slice(0, 3);
const ordinal = (n: number) =>
  `${n}${n % 10 === 1 && n % 100 !== 11 ? 'st' : n % 10 === 2 && n % 100 !== 12 ? 'nd' : n % 10 === 3 && n % 100 !== 13 ? 'rd' : 'th'}`;

/** Does a letter's own text still say what the letter says? True where it has none of its own. */
const follows = (drawn: Drawn, mark: string | null): boolean =>
  drawn.ownText === null || mark === textMark(renderText(drawn.document, drawn.frame));

/**
 * Looks at all of a letter that its words alone do not tell. Throws "not-found" where its post is gone. What has to be asked of others, whether its links answer and
 * who would read a gap, is left out where nothing `asks`: none of it stops a letter.
 */
export async function lookOver(
  ctx: Context,
  newsletter: Newsletter,
  letterId: string,
  { asks = true }: { asks?: boolean } = {},
): Promise<Check[]> {
  const letter = await ctx.db
    .selectFrom('letters as l')
    .leftJoin('senders as s', 's.id', 'l.sender_id')
    .leftJoin('domains as d', (join) => join.onRef('d.newsletter_id', '=', 'l.newsletter_id').onRef('d.name', '=', 's.domain'))
    .innerJoin('posts as p', 'p.id', 'l.post_id')
    .select(['l.post_id', 'l.layout_id', 'l.preview_line', 'l.subject', 'l.own_text', 'l.own_text_of', 'l.due_at', 'l.audience'])
    .select(['p.document', 's.id as sender', 's.confirmed_at', 'd.state as domain'])
    .where('l.newsletter_id', '=', newsletter.id)
    .where('l.id', '=', letterId)
    .executeTakeFirstOrThrow();
  if (asks)
    await limit(
      ctx,
      `look-over:${newsletter.id}`,
      1_500,
      3_600,
      'Letters were looked over very often in this hour. Please wait a while.',
    );
  const drawn = await laidOut(ctx, ctx.db, newsletter, letter);
  const [html, answers, gaps] = await Promise.all([
    renderHtml(drawn.document, drawn.frame),
    asks ? answersOf(ctx, leadsIn(letter.document)) : [],
    asks ? gapsOf(ctx, newsletter, letter, drawn) : [],
  ]);
  const parts = await readyAudience(ctx, ctx.db, newsletter, partsOf(drawn.segments));
  return factChecks({
    bytes: Buffer.byteLength(html),
    largest: largestOf(drawn.frame, letter.document),
    dead: answers.filter((one) => one.verdict === 'dead'),
    untold: answers.filter((one) => one.verdict === 'untold').map((one) => one.url),
    gaps,
    lostParts: parts.missing.length,
    textApart: !follows(drawn, letter.own_text_of),
    sender: !letter.sender ? 'none' : letter.confirmed_at ? 'fine' : 'unconfirmed',
    domain: !letter.sender || letter.domain === 'authenticated' ? 'fine' : letter.domain === null ? 'none' : 'not right',
    reasonLine: newsletter.reason_line.trim() !== '',
    postalAddress: newsletter.postal_address.trim() !== '',
    htmlLoses: [...every(letter.document.nodes)].some((node) => node.kind === 'html' && loses(node.html)),
    leavesByPage: html.includes(slot(SLOT.leave)),
  });
}

/** Chips with nothing for who gave no answer, and how many of whom the letter is for gave none. */
async function gapsOf(
  ctx: Context,
  newsletter: Newsletter,
  letter: { subject: string; preview_line: string; audience: Parameters<typeof readyAudience>[3] },
  drawn: Drawn,
): Promise<Facts['gaps']> {
  const chips = [...chipsIn(drawn.document), ...chipsOfLine(letter.subject), ...chipsOfLine(letter.preview_line)];
  const fields = [...new Set(chips.filter((chip) => !chip.fallback.trim()).map((chip) => chip.field))];
  if (fields.length === 0) return [];
  const ready = await readyAudience(ctx, ctx.db, newsletter, letter.audience);
  const lacking = fields.map((field) =>
    field === FIRST_NAME
      ? sql<number>`count(*) filter (where coalesce(r.first_name, '') = '')::int`
      : sql<number>`count(*) filter (where not exists (select 1 from reader_answers a join fields f on f.id = a.field_id where a.reader_id = r.id and f.key = ${field} and f.newsletter_id = ${newsletter.id}))::int`,
  );
  const { rows } = await sql<{ n: number[] }>`
    select array[${sql.join(lacking)}] as n from (${audienceSql(newsletter.id, ready)}) audience (id) join readers r on r.id = audience.id
    where r.newsletter_id = ${newsletter.id} and r.standing = 'reading'`.execute(ctx.db);
  return fields.map((field, n) => ({ field, people: rows[0]?.n[n] ?? 0 }));
}
