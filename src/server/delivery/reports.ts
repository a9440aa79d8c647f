import { sql } from 'kysely';
import type { Context } from '../context';
import { countUses } from '../limits';

export type ReportKind = 'dmarc' | 'tls' | 'complaint' | 'postmaster';

/** What comes to an address of ours that is no return address, by its local part in small letters; null for one that nobody has. */
export function reportKind(local: string): ReportKind | null {
  // Each domain has a report address of its own (see senders/records); the plain one is the installation's.
  if (local === 'dmarc' || /^d-[a-z0-9-]{3,60}$/.test(local)) return 'dmarc';
  if (local === 'tls' || local === 'tlsrpt') return 'tls';
  if (local === 'abuse' || local === 'complaints') return 'complaint';
  // Every domain that takes mail has one (RFC 5321 section 4.5.1).
  return local === 'postmaster' ? 'postmaster' : null;
}

/** What is kept of one day, and of all: nobody who means well reports more, and somebody else shall not fill the disk. */
const MOST_A_DAY = 5_000;
const UNIT_BYTES = 100_000;
const MOST_BYTES = 5_000_000_000;
const KEPT_MS = 400 * 86_400_000;
const NAMED_FOR_MS = 90 * 86_400_000;

/** Keeps a report as it came, until there is a screen for it. False where today has brought more than anybody would send who means well: then it may come again. */
export async function keepReport(ctx: Context, local: string, kind: ReportKind, bytes: Buffer): Promise<boolean> {
  const units = Array.from({ length: Math.max(1, Math.ceil(bytes.length / UNIT_BYTES)) }, () => ({
    key: 'reports',
    seconds: 86_400,
  }));
  if ((await countUses(ctx, units)).at(-1)! > MOST_A_DAY) return false;
  const { rows } = await sql<{ size: string }>`select pg_total_relation_size('reports') as size`.execute(ctx.db);
  if (Number(rows[0]!.size) > MOST_BYTES) return false;
  const domain =
    kind === 'dmarc'
      ? await ctx.db.selectFrom('domains').select('id').where('reports_token', '=', local).executeTakeFirst()
      : undefined;
  await ctx.db
    .insertInto('reports')
    .values({ kind, to_local: local, domain_id: domain?.id ?? null, received_at: ctx.clock.now(), bytes })
    .execute();
  return true;
}

/** Reports older than thirteen months go, and what was found in them; so does what an address was called, that nobody has asked for in a quarter of a year. */
export async function forgetOldReports(ctx: Pick<Context, 'db' | 'clock'>): Promise<void> {
  await ctx.db
    .deleteFrom('reports')
    .where('received_at', '<', new Date(ctx.clock.now().getTime() - KEPT_MS))
    .execute();
  const now = ctx.clock.now().getTime();
  for (const table of ['dmarc_reports', 'tls_reports'] as const)
    await ctx.db
      .deleteFrom(table)
      .where('to_at', '<', new Date(now - KEPT_MS))
      .execute();
  await ctx.db
    .deleteFrom('source_hosts')
    .where('looked_at', '<', new Date(now - NAMED_FOR_MS))
    .execute();
}
