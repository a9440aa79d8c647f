import { readStsPolicy, stsId } from '@/core/sending/sts';
import type { Context } from '../context';
import type { KeptPolicy } from '../db/schema';
import { type Fetched, guardedFetch } from '../fetch/guarded';

type Ctx = Pick<Context, 'resolver' | 'config' | 'clock'>;

/** Whoever's mail waits behind this look-up is not kept for as long as a policy host likes (RFC 8461 section 3.3 leaves the time to us). */
const LIMITS = { timeoutMs: 4_000, bytes: 64_000, redirects: 0 };
/** One that ends within a day is asked for again, so that it does not run out unnoticed. */
const RENEW_MS = 86_400_000;

type Read = (url: string) => Promise<Pick<Fetched, 'status' | 'headers' | 'bytes'>>;

/**
 * What a domain demands of whoever brings it mail (MTA-STS, RFC 8461 section 3): read anew where its record names another policy than the one that
 * is known, or that one ends soon. One that is known holds until its end, whatever is said or left unsaid meanwhile (section 5.1). Null where there is none.
 */
export async function policyOf(
  ctx: Ctx,
  domain: string,
  known: KeptPolicy | null,
  read: Read = (url) => guardedFetch(url, ctx.config.allowLoopback, { 'user-agent': 'Inkset mail policy reader' }, LIMITS),
): Promise<KeptPolicy | null> {
  const now = ctx.clock.now().getTime();
  const left = known ? new Date(known.until).getTime() - now : 0;
  const kept = left > 0 ? known : null;
  const record = await ctx.resolver.look(`_mta-sts.${domain}`, 'TXT');
  const id = record.kind === 'found' ? stsId(record.values) : null;
  if (!id || (kept?.id === id && left > RENEW_MS)) return kept;
  const answer = await read(`https://mta-sts.${domain}/.well-known/mta-sts.txt`).catch(() => null);
  // Redirects are not followed, and anything but plain text is no policy (section 3.3).
  const text =
    answer?.status === 200 && /^text\/plain\b/i.test(answer.headers.get('content-type') ?? '')
      ? answer.bytes.toString('utf8')
      : '';
  const policy = readStsPolicy(text);
  if (!policy) return kept;
  return { id, mode: policy.mode, mx: policy.mx, until: new Date(now + policy.maxAgeSeconds * 1000).toISOString() };
}
