import { sql } from 'kysely';
import { pino } from 'pino';
import { SMTPServer } from 'smtp-server';
import { forecast, type Week } from '@/core/growth/forecast';
import { ofList } from '@/core/sending/audience';
import { readRange } from '@/core/sending/result';
import type { Node } from '@/core/writing/document';
import { ManualClock } from '@/server/clock/clock';
import { readConfig } from '@/server/config';
import type { Context, Newsletter } from '@/server/context';
import type { Db } from '@/server/db/connection';
import { type Mark, writeMarks } from '@/server/delivery/marks';
import { Returns } from '@/server/delivery/returned';
import { deliveryOf } from '@/server/delivery/standing';
import { takeApart } from '@/server/delivery/take-apart';
import { newId } from '@/server/ids';
import { postOffice } from '@/server/jobs/post-office';
import { beat, foldCounts } from '@/server/jobs/tick';
import { scheduleLetter } from '@/server/sending/letters';
import { findRoutes } from '@/server/sending/routing';
import { startLetter } from '@/server/sending/start';
import { letterOf } from '@/server/sending/views';
import { goneNotice, junkReport } from '../backlot/mailboxes/notices';
import { chance } from '../backlot/public/chance';
import { BOX_ANSWERS, BOX_REASONS, comesOf, type Person, PROVIDERS, people } from '../backlot/public/people';
import { prepareNewsletter } from './letter';
import { benchEnv, outsideResolver } from './outside';

const WEEKS = 26;
const READERS = 1_200;
const LINKS = 6;
const WEEK_MS = 7 * 86_400_000;
/** Stretches of weeks in which a provider puts a part of the letters into junk. */
const JUNK = [
  { provider: 'fjordbox.example', from: 12, to: 17, share: 0.55 },
  { provider: 'postbird.example', from: 21, to: 26, share: 0.3 },
];
const ALWAYS = 0.02;

type Taken = { from: string; source: string };

/** Mailboxes in this process, which answer by what kind of box an address has. */
async function mailboxes(
  boxes: Map<string, Person>,
): Promise<{ port: number; taken: Map<string, Taken>; close(): Promise<void> }> {
  const taken = new Map<string, Taken>();
  const server = new SMTPServer({
    authOptional: true,
    disabledCommands: ['STARTTLS', 'AUTH'],
    disableReverseLookup: true,
    onRcptTo({ address }, _session, callback) {
      const said = BOX_ANSWERS[boxes.get(address)?.box ?? 'well'];
      callback(said ? Object.assign(new Error(said[1]), { responseCode: said[0] }) : null);
    },
    onData(stream, session, callback) {
      const pieces: Buffer[] = [];
      stream.on('data', (piece: Buffer) => pieces.push(piece));
      stream.on('end', () => {
        const from = session.envelope.mailFrom ? session.envelope.mailFrom.address : '';
        for (const { address } of session.envelope.rcptTo)
          taken.set(address, { from, source: Buffer.concat(pieces).toString('latin1') });
        callback();
      });
    },
  });
  server.on('error', () => {});
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  return {
    port: (server.server.address() as { port: number }).port,
    taken,
    close: () => new Promise((resolve) => server.close(() => resolve())),
  };
}

type Line = { letter: number; read: number; said: number; clicked: number; saidClicked: number; reached: number };

/**
 * Half a year of a seeded public: what the screens say of it, held against what it did. It prints a table and asserts nothing; a run of the same seed is the same.
 */
export async function truth(db: Db, url: string): Promise<[]> {
  const seed = 7;
  const public_ = people(seed, READERS);
  const boxes = new Map(public_.map((person) => [person.address, person]));
  const mail = await mailboxes(boxes);
  const clock = new ManualClock(new Date('2026-01-08T09:00:00Z'));
  const config = readConfig({ ...benchEnv(url), INKSET_MX_PORT: String(mail.port), INKSET_ALLOW_LOOPBACK: 'true' });
  const ctx: Context = {
    db,
    clock,
    config,
    log: pino({ level: 'silent' }),
    resolver: { ...outsideResolver(), addresses: async () => ['127.0.0.1'] },
  };
  const { newsletter, senderId } = await prepareNewsletter(ctx);
  await sql`update domains set checked_at = '2030-01-01', next_check_at = '2030-01-01'`.execute(db);
  const listId = newId();
  await db
    .insertInto('lists')
    .values({ id: listId, newsletter_id: newsletter.id, name: 'B', public_name: 'B', position: 0, created_at: clock.now() })
    .execute();
  const worker = newId();
  const office = postOffice(ctx, worker);
  const returned = new Returns(ctx);
  const nodes: Node[] = [
    {
      kind: 'paragraph',
      inline: Array.from({ length: LINKS }, (_, n) => ({
        kind: 'text' as const,
        text: `link ${n} `,
        href: `https://saltmarsh.example/${n}`,
      })),
    },
  ];
  const lines: Line[] = [];
  const junk = { told: 0, held: 0, named: 0, wronged: 0 };
  let complaints = 0;
  let joined = 0;
  const luck = chance(seed);
  const began = performance.now();
  for (let week = 0; week < WEEKS; week += 1) {
    // A third is there from the first week on; the others come, some weeks more of them than others.
    const upTo = Math.min(
      READERS,
      week === 0 ? READERS / 3 : joined + Math.round(((2 / 3) * READERS * (0.4 + 1.2 * luck())) / WEEKS),
    );
    await join(ctx, newsletter, listId, public_.slice(joined, upTo));
    joined = upTo;
    mail.taken.clear();
    const letterId = await letter(ctx, newsletter, { senderId, listId, nodes, n: week });
    await deliver(ctx, worker, office);
    const { rows } = await sql<{ id: string; sent_on: string; address: string; delivered_at: Date }>`
      select id, sent_on, address, delivered_at from deliveries where letter_id = ${letterId} and state = 'delivered'`.execute(
      db,
    );
    const line: Line = { letter: week, read: 0, said: 0, clicked: 0, saidClicked: 0, reached: 0 };
    const marks: Mark[] = [];
    for (const copy of rows) {
      const person = boxes.get(copy.address)!;
      const { from, source } = mail.taken.get(copy.address)!;
      const of = {
        returnPath: from,
        recipient: copy.address,
        host: `mx.${person.provider}`,
        date: clock.now(),
        original: source,
      };
      if (person.box === 'dead later') {
        await returned.take(from, await takeApart(Buffer.from(goneNotice(of)), ''));
        continue;
      }
      const came = comesOf(person, `letter ${week}`, { links: LINKS, inJunk: shareOf(person.provider, week) });
      line.reached += 1;
      line.read += Number(came.read);
      line.clicked += Number(came.clicked);
      for (const { kind, afterSeconds, link, agent, network } of came.acts)
        marks.push({
          ref: { sentOn: copy.sent_on, id: BigInt(copy.id) },
          kind,
          at: new Date(copy.delivered_at.getTime() + 1_000 * afterSeconds),
          link,
          agent,
          network,
          method: 'GET',
        });
      if (came.complains) {
        complaints += 1;
        await returned.take(from, await takeApart(Buffer.from(junkReport(of)), 'reports@mx.example'));
      }
    }
    marks.sort((a, b) => a.at.getTime() - b.at.getTime());
    for (let at = 0; at < marks.length; at += 100) await writeMarks(ctx, marks.slice(at, at + 100));
    clock.advance(WEEK_MS - 3_600_000);
    await deliver(ctx, worker, office);
    await foldCounts(ctx);
    const { counts } = await letterOf(ctx, newsletter, letterId);
    line.said = readRange(counts).about;
    line.saidClicked = counts.clicked;
    lines.push(line);
    const { standings } = await deliveryOf(ctx, newsletter, 28);
    for (const { name, junk: range, state } of standings) {
      if (!range) continue;
      const is = newly(name, week);
      // A week in which it has just begun or ended is of both kinds.
      if (is === null) continue;
      junk.told += 1;
      if (range.low <= is && is <= range.high) junk.held += 1;
      if (state === 'Puts letters into junk') junk[is > 0 ? 'named' : 'wronged'] += 1;
    }
    clock.advance(3_600_000);
  }
  const seconds = (performance.now() - began) / 1_000;
  const failed = (
    await sql<{
      address: string;
      reason: string;
    }>`select address, reason from deliveries where state in ('bounced', 'refused', 'given up')`.execute(db)
  ).rows;
  const right = failed.filter(({ address, reason }) => {
    const box = boxes.get(address)!.box;
    return box !== 'well' && BOX_REASONS[box] === reason;
  }).length;
  const { standings } = await deliveryOf(ctx, newsletter, 365);
  const counted = standings.reduce((sum, { copies }) => sum + copies.complained, 0);
  const off = lines.map(({ read, said, reached }) => (100 * Math.abs(said - read)) / reached);
  const clicksOff = lines.reduce((sum, one) => sum + Math.abs(one.clicked - one.saidClicked), 0);
  const rows: [string, string, string][] = [
    [
      'reads of a letter, furthest off',
      `${Math.max(...off).toFixed(1)} points, ${(off.reduce((a, b) => a + b, 0) / off.length).toFixed(1)} in the middle`,
      'within 3',
    ],
    ['clicks', `${clicksOff} of ${lines.reduce((sum, one) => sum + one.clicked, 0)} off`, 'none'],
    ['why copies did not arrive', `${right} of ${failed.length} right`, '99 %'],
    ['complaints', `${counted} of ${complaints}`, 'all'],
    ['landed in junk, within its range', `${junk.held} of ${junk.told} weeks of a provider`, '9 of 10'],
    ['said to put letters into junk', `${junk.named} weeks in which it did, ${junk.wronged} in which it did not`, 'none wronged'],
    ['forecast of four weeks, within its band', await forecasts(ctx, newsletter), '8 of 10'],
  ];
  console.log(
    `  ${WEEKS} weeks, ${READERS.toLocaleString('en-GB')} people at ${PROVIDERS.length} providers, seed ${seed}: ${seconds.toFixed(0)} s`,
  );
  for (const [what, is, aim] of rows) console.log(`  ${what.padEnd(42)} ${is.padEnd(44)} aim ${aim}`);
  await office.stop();
  await mail.close();
  return [];
}

const shareOf = (provider: string, week: number) =>
  JUNK.find((one) => one.provider === provider && week >= one.from && week < one.to)?.share ?? ALWAYS;

/** What newly lies in junk in the four weeks up to one; null where these weeks, or the habit before them, are of both kinds. */
function newly(provider: string, week: number): number | null {
  const own = JUNK.filter((one) => one.provider === provider);
  const shares = new Set([0, 1, 2, 3].map((back) => shareOf(provider, week - back)));
  if (shares.size > 1 || own.some((one) => one.to <= week - 3)) return null;
  return 1 - (1 - shareOf(provider, week)) / (1 - ALWAYS);
}

async function join(ctx: Context, newsletter: Newsletter, listId: string, some: Person[]): Promise<void> {
  if (some.length === 0) return;
  const now = ctx.clock.now();
  const ids = some.map(() => newId());
  await ctx.db
    .insertInto('readers')
    .values(
      some.map(({ address }, n) => ({
        id: ids[n]!,
        newsletter_id: newsletter.id,
        address,
        address_key: address,
        created_at: now,
      })),
    )
    .execute();
  await ctx.db
    .insertInto('memberships')
    .values(
      ids.map((id) => ({
        reader_id: id,
        list_id: listId,
        newsletter_id: newsletter.id,
        state: 'reading' as const,
        since: now,
        joined_at: now,
      })),
    )
    .execute();
}

async function letter(
  ctx: Context,
  newsletter: Newsletter,
  of: { senderId: string; listId: string; nodes: Node[]; n: number },
): Promise<string> {
  const postId = newId();
  const now = ctx.clock.now();
  await sql`select ensure_month(${now}::date), ensure_month((${now}::date + 31)::date)`.execute(ctx.db);
  await ctx.db
    .insertInto('posts')
    .values({
      id: postId,
      newsletter_id: newsletter.id,
      slug: postId,
      title: `Letter ${of.n}`,
      document: JSON.stringify({ version: 1, nodes: of.nodes }),
      created_at: now,
      updated_at: now,
    })
    .execute();
  const id = await scheduleLetter(ctx, ctx.db, {
    newsletterId: newsletter.id,
    postId,
    autoSendId: null,
    layoutId: null,
    audience: ofList(of.listId),
    senderId: of.senderId,
    subject: `Letter ${of.n}`,
    previewLine: '',
    dueAt: now,
  });
  await startLetter(ctx, id);
  return id;
}

async function deliver(ctx: Context, worker: string, office: ReturnType<typeof postOffice>): Promise<void> {
  await beat(ctx, worker);
  await findRoutes(ctx);
  while ((await office.settle()) > 0);
}

/** Forecasts as they would have been made in each week, held against what came four weeks later. */
async function forecasts(ctx: Context, newsletter: Newsletter): Promise<string> {
  const { rows } = await sql<Week & { week: string }>`
    select date_trunc('week', day)::text as week, sum(joined)::int as joined, sum(left_count)::int as left from daily_counts where newsletter_id = ${newsletter.id} group by 1 order by 1`.execute(
    ctx.db,
  );
  let [held, made] = [0, 0];
  let readers = 0;
  const after = rows.map((row) => {
    readers += row.joined - row.left;
    return readers;
  });
  for (let at = 12; at + 4 <= rows.length; at += 1) {
    const said = forecast(rows.slice(1, at), after[at - 1]!);
    if (!said) continue;
    made += 1;
    const came = after[at + 3]!;
    if (said[3]!.low <= came && came <= said[3]!.high) held += 1;
  }
  return `${held} of ${made}`;
}
