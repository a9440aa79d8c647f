import { type Signature, type Signer, signerOf } from '@/core/delivery/report-signer';
import { Fault } from '@/core/faults';
import { parseTags } from '@/core/senders/tags';
import type { Context } from '../context';
import { bundled, Threads } from '../threads';

/** Nobody's report has more signatures, or a longer head; each costs a look at all of it, and a question. */
const MOST_SIGNATURES = 5;
const MOST_HEAD = 64_000;

/** What was found of a key by its name: its record, none, or no answer. */
export type KeyFound = { record: string } | 'none' | 'unanswered';
/** A mail whose signatures are to be checked, with the keys that they name. */
export type SignatureTask = { bytes: Uint8Array; keys: Record<string, KeyFound>; now: Date };
export type SignaturesFound = { from: string[]; signatures: Signature[] };

const threads = new Threads<SignatureTask>(bundled('signature-thread.js'), { threads: 1, seconds: 5, megabytes: 256 });
const TOO_MUCH = 'Its signature cannot be checked: it is made so that checking it takes too long.';

/** The lines of a mail's head, unfolded (RFC 5322 section 2.2.3); null where it is longer than any report's. */
function headOf(bytes: Buffer): string[] | null {
  const text = bytes.subarray(0, MOST_HEAD).toString('latin1');
  const end = /\r?\n\r?\n/.exec(text);
  return end
    ? text
        .slice(0, end.index)
        .replace(/\r?\n(?=[ \t])/g, '')
        .split(/\r?\n/)
    : null;
}

/**
 * By whose signature a report that came by mail counts. The keys are asked for as any name is; the signatures are checked apart, since a mail can be made so that this
 * takes minutes. Never throws for what stands in it.
 */
export async function signedBy(ctx: Pick<Context, 'resolver' | 'clock'>, bytes: Buffer): Promise<Signer> {
  const head = headOf(bytes);
  if (!head) return { nobody: 'Its head is longer than that of any report.' };
  const signatures = head.flatMap((line) => {
    const said = /^dkim-signature\s*:(.*)$/i.exec(line)?.[1];
    return said === undefined ? [] : [parseTags(said)];
  });
  if (signatures.length > MOST_SIGNATURES) return { nobody: 'It has more signatures than any report has.' };
  if (!signatures.every((tags) => tags !== null)) return { nobody: 'A signature in it is not written as one.' };
  // What somebody else may add to without breaking it shows nothing.
  if (signatures.some((tags) => tags.has('l'))) return { nobody: 'A part of it alone is signed.' };
  const names = new Set(
    signatures.map((tags) => `${tags.get('s')}._domainkey.${tags.get('d')}`).filter((name) => /^[a-z0-9._-]{1,253}$/i.test(name)),
  );
  const keys = await Promise.all(
    [...names].map(async (name): Promise<[string, KeyFound]> => {
      const answer = await ctx.resolver.look(name, 'TXT').catch(() => null);
      return [
        name,
        answer?.kind === 'found' ? { record: answer.values[0] ?? '' } : answer?.kind === 'none' ? 'none' : 'unanswered',
      ];
    }),
  );
  try {
    const task = { bytes, keys: Object.fromEntries(keys), now: ctx.clock.now() };
    const found = JSON.parse(await threads.run(task, TOO_MUCH)) as SignaturesFound;
    return signerOf(found.from, found.signatures);
  } catch (error) {
    if (error instanceof Fault) return { nobody: error.sentence };
    throw error;
  }
}
