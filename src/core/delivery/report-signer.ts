import { getDomain } from 'tldts';

/** One signature of a mail (DKIM, RFC 6376), as it was found. */
export type Signature = {
  /** Whose (d=). */
  domain: string;
  result: 'pass' | 'unanswered' | 'fail';
  /** Does it sign all that the mail says (no l=), and who it is from? */
  whole: boolean;
};
/** By whose word a report counts; or nobody's, with why, as a sentence; or it cannot be told yet. */
export type Signer = { by: string } | { nobody: string } | 'unanswered';

/**
 * By whose word a report that was mailed counts: the organisation whose domain its From address has and that signed it (RFC 7489 section 7.2.1.1, RFC 8460 section 5.3).
 * `from` are the addresses of all its From lines: a mail of two has no sender. Anybody can write a report in a provider's name; who writes one in their own is named by it.
 */
export function signerOf(from: readonly string[], signatures: readonly Signature[]): Signer {
  const domain = from.length === 1 ? from[0]!.slice(from[0]!.lastIndexOf('@') + 1).toLowerCase() : '';
  const whose = domain && getDomain(domain);
  if (!whose) return { nobody: 'It does not say in one way whom it comes from.' };
  const own = signatures.filter((one) => one.whole && getDomain(one.domain.toLowerCase()) === whose);
  if (own.some(({ result }) => result === 'pass')) return { by: whose };
  if (own.some(({ result }) => result === 'unanswered')) return 'unanswered';
  return {
    nobody: `It is written in the name of ${whose}, and ${own.length ? `the signature of ${whose} in it does not hold` : `bears no signature of ${whose}`}.`,
  };
}
