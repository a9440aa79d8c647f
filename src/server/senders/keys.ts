import { Fault } from '@/core/faults';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import { newId } from '../ids';
import { newDkimPair } from '../mail/identity';

/** How old a retired key has to be before its name is given to another: letters it signed have arrived or been given up by then. */
const RETIRED_MS = 7 * 86_400_000;

/** Makes a key of a domain, with a selector that was never used there before. */
export async function makeKey(
  ctx: Context,
  db: Db,
  domainId: string,
  role: 'active' | 'next' | 'second',
  algorithm: 'rsa' | 'ed25519',
): Promise<void> {
  const used = await db
    .selectFrom('domain_keys')
    .select(['selector', 'role', 'created_at'])
    .where('domain_id', '=', domainId)
    .execute();
  const domain = await db.selectFrom('domains').select('keys_by_alias').where('id', '=', domainId).executeTakeFirstOrThrow();
  // Behind aliases the two names that the writer published take turns: a retired key gives its name to the next one.
  const reused =
    domain.keys_by_alias && role === 'next'
      ? used
          .filter((row) => row.role === 'retired' && ctx.clock.now().getTime() - row.created_at.getTime() > RETIRED_MS)
          .map((row) => row.selector)
      : [];
  if (reused[0]) await db.deleteFrom('domain_keys').where('domain_id', '=', domainId).where('selector', '=', reused[0]).execute();
  const taken = new Set(used.map((row) => row.selector).filter((selector) => selector !== reused[0]));
  let n = 1;
  while (taken.has(`ink${n}`)) n += 1;
  const pair = await newDkimPair(ctx, algorithm);
  await db
    .insertInto('domain_keys')
    .values({
      id: newId(),
      domain_id: domainId,
      selector: `ink${n}`,
      algorithm,
      role,
      public_key: pair.publicKey,
      private_key: pair.sealed,
      created_at: ctx.clock.now(),
    })
    .onConflict((c) => c.doNothing())
    .execute();
}

async function ownDomain(ctx: Context, newsletter: Newsletter, id: string): Promise<{ id: string; name: string }> {
  const domain = await ctx.db
    .selectFrom('domains')
    .select(['id', 'name'])
    .where('newsletter_id', '=', newsletter.id)
    .where('id', '=', id)
    .executeTakeFirst();
  if (!domain) throw new Fault('not-found', 'This domain is gone.');
  return domain;
}

/** Begins a change of keys: the next key is made and shown; nothing signs with it until it is found in DNS and taken into use. */
export async function prepareNextKey(ctx: Context, newsletter: Newsletter, domainId: string): Promise<void> {
  const domain = await ownDomain(ctx, newsletter, domainId);
  await makeKey(ctx, ctx.db, domain.id, 'next', 'rsa');
  await lookSoon(ctx, domain.id);
}

/**
 * Takes the next key into use. Only if the last check found it right in DNS, since letters signed with a key that nobody can find
 * fail. The old one is retired and its record may go after a week, when no letter under way carries its signature any more.
 */
export async function useNextKey(ctx: Context, newsletter: Newsletter, domainId: string): Promise<void> {
  const domain = await ownDomain(ctx, newsletter, domainId);
  const { judgements } = await ctx.db
    .selectFrom('domains')
    .select('judgements')
    .where('id', '=', domain.id)
    .executeTakeFirstOrThrow();
  if (judgements.find((j) => j.purpose === 'dkim-next')?.verdict !== 'right') {
    throw new Fault(
      'conflict',
      'The next key is not found in DNS yet. Publish its record first; until then the old key goes on signing.',
    );
  }
  await ctx.db.transaction().execute(async (trx) => {
    const keys = trx.updateTable('domain_keys').where('domain_id', '=', domain.id);
    // From now on its age counts from when it stopped signing.
    await keys.set({ role: 'retired', created_at: ctx.clock.now() }).where('role', '=', 'active').execute();
    await keys.set({ role: 'active' }).where('role', '=', 'next').execute();
  });
  await lookSoon(ctx, domain.id);
}

/** Adds an Ed25519 key beside the active one (RFC 8463), or takes it away. */
export async function switchSecondKey(ctx: Context, newsletter: Newsletter, domainId: string, on: boolean): Promise<void> {
  const domain = await ownDomain(ctx, newsletter, domainId);
  if (on) await makeKey(ctx, ctx.db, domain.id, 'second', 'ed25519');
  else
    await ctx.db
      .updateTable('domain_keys')
      .set({ role: 'retired' })
      .where('domain_id', '=', domain.id)
      .where('role', '=', 'second')
      .execute();
  await lookSoon(ctx, domain.id);
}

/**
 * Chooses how a domain's keys stand in DNS: themselves, or behind aliases to names that we serve. With aliases the next key is made at
 * once, so that both aliases are published once and later changes of keys need nothing from the writer.
 */
export async function switchAliases(ctx: Context, newsletter: Newsletter, domainId: string, on: boolean): Promise<void> {
  const domain = await ownDomain(ctx, newsletter, domainId);
  await ctx.db.updateTable('domains').set({ keys_by_alias: on }).where('id', '=', domain.id).execute();
  if (on) await makeKey(ctx, ctx.db, domain.id, 'next', 'rsa');
  await lookSoon(ctx, domain.id);
}

/** The name under which we serve a key: the selector, the domain's own token, our zone for keys. */
export const servedName = (ctx: Pick<Context, 'config'>, selector: string, token: string) =>
  `${selector}.${token}.keys.${ctx.config.mailDomain}`;

/** The key record behind a name that we serve, or null. Retired keys stay, since letters signed with them may still be on their way. */
export async function servedKey(ctx: Pick<Context, 'db' | 'config'>, name: string): Promise<string | null> {
  const match = /^([a-z0-9]+)\.([a-z0-9-]+)\.keys\.(.+)$/.exec(name.toLowerCase());
  if (!match || match[3] !== ctx.config.mailDomain) return null;
  const row = await ctx.db
    .selectFrom('domain_keys as k')
    .innerJoin('domains as d', 'd.id', 'k.domain_id')
    .select(['k.algorithm', 'k.public_key'])
    .where('d.reports_token', '=', match[2]!)
    .where('k.selector', '=', match[1]!)
    .executeTakeFirst();
  return row ? `v=DKIM1; k=${row.algorithm}; p=${row.public_key}` : null;
}

/** Has a domain checked at the next tick, and often for a while: something was changed. */
export async function lookSoon(ctx: Context, domainId: string): Promise<void> {
  await ctx.db
    .updateTable('domains')
    .set({ next_check_at: ctx.clock.now(), checks_since_change: 0 })
    .where('id', '=', domainId)
    .execute();
}
