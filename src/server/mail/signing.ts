import type { DkimKey } from '@/core/sending/dkim';
import type { Context } from '../context';
import { openDkimKey } from './identity';

/**
 * The keys a domain's letters are signed with: the active one, and the Ed25519 one beside it once the last check found it in DNS.
 * Throws if the active key is gone or does not match its public half.
 */
export async function signingKeys(ctx: Pick<Context, 'db' | 'config'>, domainId: string): Promise<DkimKey[]> {
  const rows = await ctx.db
    .selectFrom('domain_keys as k')
    .innerJoin('domains as d', 'd.id', 'k.domain_id')
    .select(['d.name as domain', 'd.judgements', 'k.selector', 'k.algorithm', 'k.public_key', 'k.private_key', 'k.role'])
    .where('k.domain_id', '=', domainId)
    .where('k.role', 'in', ['active', 'second'])
    .orderBy('k.role')
    .execute();
  const usable = rows.filter(
    (row) => row.role === 'active' || row.judgements.some((j) => j.purpose === 'dkim-ed25519' && j.verdict === 'right'),
  );
  if (!usable.some((row) => row.role === 'active')) throw new Error('The domain has no active key.');
  return usable.map((row) => openDkimKey(ctx, row));
}
