import { type Challenge, createChallenge, type Payload, verifySolution } from 'altcha-lib';
import { deriveKey } from 'altcha-lib/algorithms/pbkdf2';
import { isSigned, keyFor, signText } from '@/core/keys';
import type { Context } from '../context';
import { countUses, within } from '../limits';

/** About 256 tries of a few milliseconds: a second or two for a visitor's machine, and dear for who sends thousands. */
const COST = 5_000;
const GOOD_FOR_MS = 600_000;
/** How long somebody waits who cannot run a script. */
export const WAIT_SECONDS = 15;
const MOST_TICKETS_A_MINUTE = 60;

/** What a visitor's machine has to show while a form is under attack: a solved challenge, or, without a script, a ticket that has aged. */
export type WantedProof = { challenge: Challenge; ticket: string };

const signing = ({ config }: Pick<Context, 'config'>) =>
  keyFor(config.keys, config.keys.current, 'proof of work')!.toString('hex');

/** A new challenge (PBKDF2, signed, good for ten minutes) and a ticket for this form and address. By the machine's time. */
export async function wantProof(ctx: Pick<Context, 'config'>, formId: string, address: string): Promise<WantedProof> {
  const challenge = await createChallenge({
    algorithm: 'PBKDF2/SHA-256',
    cost: COST,
    deriveKey,
    expiresAt: new Date(Date.now() + GOOD_FOR_MS),
    data: { form: formId },
    hmacSignatureSecret: signing(ctx),
  });
  const at = Date.now().toString(36);
  return { challenge, ticket: `${at}.${signText(ctx.config.keys, 'ticket', `${at} ${formId} ${address}`)}` };
}

/** Does what was sent hold a proof for this form and address? Each proof is good once. */
export async function holdsProof(
  ctx: Pick<Context, 'config' | 'db'>,
  formId: string,
  address: string,
  sent: Record<string, string>,
): Promise<boolean> {
  if (sent.proof) return isSolved(ctx, formId, sent.proof);
  const [at = '', ...rest] = (sent.ticket ?? '').split('.');
  const given = rest.join('.');
  if (!isSigned(ctx.config.keys, 'ticket', `${at} ${formId} ${address}`, given)) return false;
  const age = Date.now() - Number.parseInt(at, 36);
  if (age < WAIT_SECONDS * 1000 || age > GOOD_FOR_MS) return false;
  const [used, all] = await countUses(ctx, [
    { key: `ticket:${given}`, seconds: 86_400 },
    { key: `tickets:${formId}`, seconds: 60 },
  ]);
  return used === 1 && all! <= MOST_TICKETS_A_MINUTE;
}

async function isSolved(ctx: Pick<Context, 'config' | 'db'>, formId: string, text: string): Promise<boolean> {
  if (text.length > 4_000) return false;
  try {
    const { challenge, solution } = JSON.parse(text) as Payload;
    const { verified } = await verifySolution({ challenge, solution, deriveKey, hmacSignatureSecret: signing(ctx) });
    if (!verified || challenge.parameters.data?.form !== formId) return false;
    return within(ctx, `proof:${challenge.signature}`, 1, 86_400);
  } catch {
    return false;
  }
}
