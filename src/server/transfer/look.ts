import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import { Decoding } from '@/core/importing/dialect';
import type { Found, ImportPlan, RowKind } from '@/core/importing/import';
import { type Judged, judgeRow, type Plan } from '@/core/importing/judge';
import { isRole, type RiskSample, riskOf } from '@/core/importing/risk';
import { RowReader } from '@/core/importing/rows';
import { folded } from '@/core/readers/condition';
import type { Context } from '../context';
import type { Db } from '../db/connection';
import { insertRows } from '../db/rows';
import { LookupFailed } from '../dns/resolver';
import { isThrowaway } from '../forms/mail-domain';
import { newIds } from '../ids';
import { lastAct } from '../keeping/acts';
import { suppressedAmong } from '../readers/suppressed';
import { partsOf } from './kept';

/** So many rows are written at once. */
const PORTION = 2_500;
const SAMPLE = 2_000;
const MOST_DOMAINS = 150;
const LOOK_MS = 8_000;
const OLD_MS = 3 * 365 * 86_400_000;

const COLUMNS = [
  'import_id',
  'row',
  'kind',
  'why',
  'cells',
  'reader_id',
  'address',
  'address_key',
  'domain',
  'first_name',
  'name_key',
  'state',
  'agreed_at',
  'tags',
  'answers',
  'note',
  'language',
  'zone',
] as const;

/** The writer stopped it, or it is not there any more: what was found so far goes with the transaction. */
class Stopped extends Error {}

/**
 * Looks through a whole file and says what will become of each kind of row, and brings nothing: rows are judged and kept for this import alone, in one
 * transaction, so that a worker that dies leaves nothing behind and the next one begins anew. How far it is stands outside of it, for whoever watches. A
 * second worker steps aside.
 */
export async function lookAt(ctx: Context, id: string): Promise<void> {
  try {
    await ctx.db.transaction().execute(async (trx) => {
      const { rows } = await sql<{
        mine: boolean;
      }>`select pg_try_advisory_xact_lock(hashtextextended(${`import ${id}`}, 0)) as mine`.execute(trx);
      if (!rows[0]!.mine) return;
      const row = await trx
        .selectFrom('imports')
        .selectAll()
        .where('id', '=', id)
        .where('state', '=', 'looking')
        .executeTakeFirst();
      if (!row?.plan) return;
      if (!row.file_id) throw new Fault('expired', 'The file is no longer here. Bring it again.');
      const { plan } = row.plan;
      await trx.deleteFrom('import_rows').where('import_id', '=', id).execute();
      await stage(ctx, trx, { ...row, file_id: row.file_id }, plan);
      await sql`analyze import_rows`.execute(trx);
      await sortOut(ctx, trx, row.newsletter_id, id, plan.listId);
      const found: Found = { kinds: await countKinds(trx, id), risk: riskOf(await sampled(ctx, trx, id)) };
      const { numUpdatedRows } = await trx
        .updateTable('imports')
        .set({ state: 'looked', found: JSON.stringify(found), upto: 0, result: '{}' })
        .where('id', '=', id)
        .where('state', '=', 'looking')
        .executeTakeFirst();
      if (!numUpdatedRows) throw new Stopped();
    });
  } catch (error) {
    if (!(error instanceof Stopped)) throw error;
  }
}

const countKinds = async (db: Db, id: string): Promise<Partial<Record<RowKind, number>>> =>
  Object.fromEntries(
    (
      await sql<{
        kind: RowKind;
        n: number;
      }>`select kind, count(*)::int as n from import_rows where import_id = ${id} group by 1`.execute(db)
    ).rows.map(({ kind, n }) => [kind, n]),
  );

type Looked = {
  id: string;
  newsletter_id: string;
  file_id: string;
  dialect: ConstructorParameters<typeof RowReader>[0] & { encoding: ConstructorParameters<typeof Decoding>[0]; header: boolean };
};

/** Reads the file part by part and keeps its rows, judged. */
async function stage(ctx: Context, trx: Db, row: Looked, { parts, dates, tag }: ImportPlan): Promise<void> {
  const fields = await trx
    .selectFrom('fields')
    .select(['id', 'key', 'label', 'kind', 'options'])
    .where('newsletter_id', '=', row.newsletter_id)
    .execute();
  const plan: Plan = { parts, dates, fields: fields.filter((field) => parts.includes(`field ${field.id}`)) };
  const decoding = new Decoding(row.dialect.encoding);
  const reader = new RowReader(row.dialect);
  let header = row.dialect.header;
  let waiting: Judged[] = [];
  let bytes = 0;
  const flush = async () => {
    if (waiting.length) {
      const ids = newIds(waiting.length);
      await insertRows(
        'import_rows',
        COLUMNS,
        waiting.map((one, at) => rowFor(row.id, one, ids[at]!, tag)),
      ).execute(trx);
    }
    waiting = [];
  };
  const take = async (rows: ReturnType<RowReader['push']>) => {
    for (const one of rows) {
      if (header) {
        header = false;
        continue;
      }
      waiting.push(judgeRow(one, plan));
      if (waiting.length >= PORTION) await flush();
    }
  };
  for await (const part of partsOf({ db: trx }, row.file_id)) {
    await take(reader.push(decoding.push(part)));
    bytes += part.length;
    const { numUpdatedRows } = await ctx.db
      .updateTable('imports')
      .set({ read_bytes: String(bytes) })
      .where('id', '=', row.id)
      .where('state', '=', 'looking')
      .executeTakeFirst();
    if (!numUpdatedRows) throw new Stopped();
  }
  await take(reader.push(decoding.end()));
  await take(reader.end());
  await flush();
}

const KIND_OF = { reading: 'new', waiting: 'waits', left: 'ends', bounced: 'ends', complained: 'ends' } as const;
const LONGEST_KEPT = 1_000;

/** A row for the table, as small as it can be said: what is not there is null. */
function rowFor(
  importId: string,
  judged: Judged,
  readerId: string,
  tag: string,
): Partial<Record<(typeof COLUMNS)[number], unknown>> {
  const { row } = judged;
  if (!judged.ok) return { import_id: importId, row, kind: 'bad', why: judged.why, cells: judged.cells.slice(0, LONGEST_KEPT) };
  const { address, firstName, state, tags } = judged;
  const kept: Partial<Record<(typeof COLUMNS)[number], unknown>> = {
    import_id: importId,
    row,
    kind: KIND_OF[state],
    reader_id: readerId,
    address: address.full,
    address_key: address.key,
    domain: address.domain,
    state,
  };
  if (firstName) {
    kept.first_name = firstName;
    kept.name_key = folded(firstName);
  }
  if (judged.agreedAt) kept.agreed_at = judged.agreedAt;
  if (tag && !tags.includes(tag)) kept.tags = [...tags, tag];
  else if (tags.length) kept.tags = tags;
  // With texts as they are looked for, which is our own rule (decision 0026).
  if (judged.answers)
    kept.answers = Object.fromEntries(
      Object.entries(judged.answers).map(([id, value]) => [id, [value, typeof value === 'string' ? folded(value) : null]]),
    );
  if (judged.note) kept.note = judged.note;
  if (judged.language) kept.language = judged.language;
  if (judged.zone) kept.zone = judged.zone;
  return kept;
}

/** Tells apart who is in the file twice, who is here already, and who may not be brought. Of somebody's several rows the strictest counts. */
async function sortOut(ctx: Context, db: Db, newsletterId: string, id: string, listId: string): Promise<void> {
  await sql`
    update import_rows i set kind = 'twice' from (
      select row, row_number() over (partition by address_key order by kind = 'ends' desc, kind = 'waits' desc, row) as n from import_rows where import_id = ${id} and kind <> 'bad'
    ) d where i.import_id = ${id} and i.row = d.row and d.n > 1`.execute(db);
  await againstReaders(db, newsletterId, id, listId, null);
  await barSuppressed(ctx, db, newsletterId, id, null);
}

type Range = { after: number; upto: number } | null;
const within = (range: Range) => (range ? sql`i.row > ${range.after} and i.row <= ${range.upto}` : sql`true`);

/**
 * Holds rows against who is here: their reader's id stands in them, and what they come to. Where everybody is asked, so is who never confirmed elsewhere.
 */
export async function againstReaders(
  db: Db,
  newsletterId: string,
  id: string,
  listId: string,
  range: Range,
  asked = false,
): Promise<void> {
  const joins = asked ? sql`'joins'` : sql`case when i.kind = 'waits' then 'waits' else 'joins' end`;
  await sql`
    update import_rows i set reader_id = r.id, kind = case
      when i.kind = 'ends' then 'ends'
      when r.address_state = 'suppressed' then 'barred'
      when m.state is null then ${joins}
      when m.state <> 'left' then 'known'
      when ${lastAct(sql`m`)} = 'take off' then ${joins}
      else 'gone' end
    from readers r left join memberships m on m.reader_id = r.id and m.list_id = ${listId}::uuid
    where i.import_id = ${id} and i.kind in ('new', 'joins', 'waits', 'ends') and r.newsletter_id = ${newsletterId}::uuid and r.address_key = i.address_key and ${within(range)}`.execute(
    db,
  );
}

/** Whoever may not be written to is not brought, erased readers among them, of whom only a keyed hash is left. */
export async function barSuppressed(ctx: Context, db: Db, newsletterId: string, id: string, range: Range): Promise<void> {
  await sql`
    update import_rows i set kind = 'barred' from suppressions s
    where i.import_id = ${id} and i.kind in ('new', 'joins', 'waits') and s.newsletter_id = ${newsletterId}::uuid and s.address_key = i.address_key and ${within(range)}`.execute(
    db,
  );
  const { rows } = await sql<{
    any: boolean;
  }>`select exists (select 1 from suppressions where newsletter_id = ${newsletterId} and hashed) as any`.execute(db);
  if (!rows[0]!.any) return;
  for (let after = range?.after ?? 0; ; ) {
    const { rows: some } = await sql<{ row: number; address_key: string }>`
      select row, address_key from import_rows i where import_id = ${id} and kind in ('new', 'joins', 'waits') and row > ${after} and ${within(range)} order by row limit 10000`.execute(
      db,
    );
    if (some.length === 0) return;
    const barred = await suppressedAmong(
      ctx,
      db,
      newsletterId,
      some.map((one) => one.address_key),
    );
    const hit = some.filter((one) => barred.has(one.address_key)).map((one) => one.row);
    if (hit.length)
      await sql`update import_rows set kind = 'barred' where import_id = ${id} and row = any(${hit}::int[])`.execute(db);
    after = some.at(-1)!.row;
  }
}

/** Looks at some of the rows that would be brought, evenly over the file, and asks for the mail hosts of their domains. */
async function sampled(ctx: Context, db: Db, id: string): Promise<RiskSample> {
  const { rows } = await sql<{ local: string; domain: string; agreed_at: Date | null }>`
    with taken as (select row_number() over (order by row) as n, count(*) over () as "all", address, domain, agreed_at from import_rows where import_id = ${id} and kind in ('new', 'joins', 'waits'))
    select left(address, -length(domain) - 1) as local, domain, agreed_at from taken where n % greatest(1, "all" / ${SAMPLE}) = 0`.execute(
    db,
  );
  const domains = new Map<string, number>();
  for (const { domain } of rows) domains.set(domain, (domains.get(domain) ?? 0) + 1);
  const byMany = [...domains].sort((a, b) => b[1] - a[1]);
  const dead = await deadAmong(
    ctx,
    byMany.slice(0, MOST_DOMAINS).map(([domain]) => domain),
  );
  const atDomains = (names: Iterable<string>) => [...names].reduce((sum, name) => sum + (domains.get(name) ?? 0), 0);
  const dated = rows.filter((row) => row.agreed_at);
  const now = ctx.clock.now().getTime();
  return {
    size: rows.length,
    roles: rows.filter((row) => isRole(row.local)).length,
    throwaway: rows.filter((row) => isThrowaway(row.domain)).length,
    dead: atDomains(dead.gone),
    asked: atDomains(dead.answered),
    old: dated.filter((row) => now - row.agreed_at!.getTime() > OLD_MS).length,
    dated: dated.length,
    top: { domain: byMany[0]?.[0] ?? '', people: byMany[0]?.[1] ?? 0 },
    counting: countingUp(rows.map((row) => row.local)),
  };
}

/** How many of these names are one of at least three that differ in a number alone. */
function countingUp(locals: string[]): number {
  const stems = new Map<string, Set<string>>();
  for (const local of locals) {
    const stem = /^(.*?)\d+$/.exec(local)?.[1];
    if (stem !== undefined) stems.set(stem, (stems.get(stem) ?? new Set()).add(local));
  }
  return [...stems.values()].reduce((sum, names) => sum + (names.size >= 3 ? names.size : 0), 0);
}

/** Which of these domains take no mail, of those that answered in time. DNS that does not answer says nothing against anybody. */
async function deadAmong(ctx: Context, domains: string[]): Promise<{ gone: string[]; answered: string[] }> {
  const gone: string[] = [];
  const answered: string[] = [];
  let timer: NodeJS.Timeout | undefined;
  const late = new Promise<void>((resolve) => {
    timer = setTimeout(resolve, LOOK_MS);
  });
  const all = Promise.all(
    domains.map(async (domain) => {
      try {
        if ((await ctx.resolver.mailHosts(domain)).length === 0) gone.push(domain);
        answered.push(domain);
      } catch (error) {
        if (!(error instanceof LookupFailed) || error.code !== 'ENOTFOUND') return;
        gone.push(domain);
        answered.push(domain);
      }
    }),
  );
  await Promise.race([all, late]);
  clearTimeout(timer);
  return { gone: [...gone], answered: [...answered] };
}
