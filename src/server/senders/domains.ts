import { randomBytes } from 'node:crypto';
import type { Selectable } from 'kysely';
import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import { parseDomain } from '@/core/readers/address';
import { domainState, type Judgement, judge } from '@/core/senders/judge';
import { type Installation, type RecordPurpose, type WantedRecord, wantedRecords } from '@/core/senders/records';
import type { Context, Newsletter } from '../context';
import type { Schema } from '../db/schema';
import { newId } from '../ids';
import { newDkimPair } from '../mail/identity';

export type DomainView = {
  id: string;
  name: string;
  state: 'unknown' | 'incomplete' | 'authenticated';
  checkedAt: Date | null;
  nextCheckAt: Date;
  records: (WantedRecord & { judgement: Judgement | null })[];
};

const installation = (ctx: Context): Installation => ({
  spfHost: `spf.${ctx.config.mailDomain}`,
  returnPathTarget: `in.${ctx.config.mailDomain}`,
  reportsDomain: `in.${ctx.config.mailDomain}`,
});

/** Adds a domain: makes its DKIM key and has its records looked up at once. Accepts an address or a web address by mistake. */
export async function addDomain(ctx: Context, newsletter: Newsletter, raw: unknown): Promise<{ id: string }> {
  const typed = String(raw ?? '').trim();
  const name = parseDomain(
    typed
      .replace(/^https?:\/\//i, '')
      .replace(/\/.*$/, '')
      .replace(/^.*@/, ''),
  );
  if (!name?.includes('.'))
    throw new Fault('invalid', 'This is not a domain name. One looks like lanternfish.example.', { name: 'Not a domain name.' });
  const pair = await newDkimPair(ctx);
  const id = newId();
  const added = await ctx.db
    .insertInto('domains')
    .values({
      id,
      newsletter_id: newsletter.id,
      name,
      selector: 'ink1',
      public_key: pair.publicKey,
      private_key: pair.sealed,
      reports_token: `d-${randomBytes(5).toString('hex')}`,
      next_check_at: ctx.clock.now(),
      created_at: ctx.clock.now(),
    })
    .onConflict((c) => c.columns(['newsletter_id', 'name']).doNothing())
    .returning('id')
    .executeTakeFirst();
  if (!added) throw new Fault('conflict', `${name} is in your list already.`, { name: 'This domain is in the list already.' });
  return { id };
}

/** A newsletter's domains, oldest first. */
export async function domainsOf(ctx: Context, newsletter: Newsletter): Promise<DomainView[]> {
  const rows = await ctx.db
    .selectFrom('domains')
    .selectAll()
    .where('newsletter_id', '=', newsletter.id)
    .orderBy('created_at')
    .execute();
  return rows.map((row) => view(ctx, row));
}

/** One domain with its records and what was last found. */
export async function domainOf(ctx: Context, newsletter: Newsletter, id: string): Promise<DomainView> {
  return view(ctx, await load(ctx, id, newsletter.id));
}

/**
 * Asks DNS for every record of a domain and keeps the judgement. Called by the tick (any newsletter's) and by the writer.
 * An answer that did not come leaves what was known before. Re-checks come quickly at first and then further apart.
 */
export async function checkDomain(ctx: Context, id: string, newsletterId?: string): Promise<DomainView> {
  const row = await load(ctx, id, newsletterId);
  const records = recordsOf(ctx, row);
  const judgements = await Promise.all(
    records.map(async (record) => {
      const answer = record.type === 'TXT' ? await ctx.resolver.txt(record.name) : await ctx.resolver.cname(record.name);
      const known = row.judgements.find((old) => old.purpose === record.purpose);
      const fresh = { purpose: record.purpose, ...judge(record, answer) };
      return fresh.verdict === 'unanswered' && known?.verdict === 'right' ? { ...known, sentence: fresh.sentence } : fresh;
    }),
  );
  const verdicts = Object.fromEntries(judgements.map((j) => [j.purpose, j.verdict])) as Partial<
    Record<RecordPurpose, Judgement['verdict']>
  >;
  const now = ctx.clock.now();
  const changed = JSON.stringify(judgements.map((j) => j.verdict)) !== JSON.stringify(row.judgements.map((j) => j.verdict));
  const checks = changed ? 0 : row.checks_since_change + 1;
  const updated = await ctx.db
    .updateTable('domains')
    .set({
      judgements: JSON.stringify(judgements),
      state: domainState(verdicts),
      checked_at: now,
      checks_since_change: checks,
      next_check_at: new Date(now.getTime() + Math.min(360, 1 * 2 ** Math.min(checks, 9)) * 60_000),
    })
    .where('id', '=', id)
    .returningAll()
    .executeTakeFirstOrThrow();
  if (updated.state !== row.state)
    ctx.log.info({ domain: row.name, from: row.state, to: updated.state }, 'a domain changed its state');
  return view(ctx, updated);
}

type Row = Selectable<Schema['domains']>;

async function load(ctx: Context, id: string, newsletterId?: string): Promise<Row> {
  const row = await ctx.db
    .selectFrom('domains')
    .selectAll()
    .where(sql<boolean>`id::text = ${id}`)
    .$if(newsletterId !== undefined, (query) => query.where('newsletter_id', '=', newsletterId!))
    .executeTakeFirst();
  if (!row) throw new Fault('not-found', 'This domain is gone.');
  return row;
}

const recordsOf = (ctx: Context, row: Row) =>
  wantedRecords(
    { domain: row.name, selector: row.selector, publicKey: row.public_key, reportsToken: row.reports_token },
    installation(ctx),
  );

function view(ctx: Context, row: Row): DomainView {
  return {
    id: row.id,
    name: row.name,
    state: row.state,
    checkedAt: row.checked_at,
    nextCheckAt: row.next_check_at,
    records: recordsOf(ctx, row).map((record) => ({
      ...record,
      judgement: row.judgements.find((j) => j.purpose === record.purpose) ?? null,
    })),
  };
}

/** The zone of the installation's own mail domain, as its owner has to publish it (master file). */
export function installationZone(ctx: Context, publicKey: string, address: string): string {
  const key = (`v=DKIM1; k=rsa; p=${publicKey}`.match(/.{1,255}/g) ?? []).map((part) => `"${part}"`).join(' ');
  return [
    `$ORIGIN ${ctx.config.mailDomain}.`,
    '$TTL 3600',
    `@ IN MX 10 in.${ctx.config.mailDomain}.`,
    `@ IN TXT "v=spf1 include:spf.${ctx.config.mailDomain} -all"`,
    '_dmarc IN TXT "v=DMARC1; p=reject"',
    `ink1._domainkey IN TXT ${key}`,
    `spf IN TXT "v=spf1 ip4:${address} -all"`,
    `in IN A ${address}`,
    'in IN MX 10 in',
    `in IN TXT "v=spf1 include:spf.${ctx.config.mailDomain} -all"`,
    `out IN A ${address}`,
    '',
  ].join('\n');
}
