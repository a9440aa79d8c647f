import { parse } from 'tldts';

/**
 * Word stems of names that mailbox services give themselves. Kept as general words so that no provider has to be listed;
 * a domain of the writer's own that happens to match is only warned about, never refused.
 */
const STEMS = ['mail', 'webmail', 'inbox', 'post', 'freemail', 'mailbox'];

/**
 * A warning for a from-address at a shared mailbox provider, or null.
 * DMARC (RFC 7489 section 3.1) compares the From domain with the signing domain: a provider's domain can never be signed by us,
 * so such letters fail at every receiver that asks for alignment.
 */
export function freeMailWarning(domain: string): string | null {
  const name = parse(domain, { allowPrivateDomains: true }).domainWithoutSuffix ?? domain.split('.')[0] ?? '';
  const looksShared = STEMS.some((stem) => name === stem || name.endsWith(stem) || (stem.length > 4 && name.startsWith(stem)));
  if (!looksShared) return null;
  return `${domain} looks like a mailbox service. Its owner alone can sign mail for it, so letters from this address would land in spam. An address at your own domain can be signed.`;
}
