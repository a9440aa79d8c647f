import {
  createPrivateKey,
  createPublicKey,
  generateKeyPair,
  generateKeyPairSync,
  type KeyObject,
  sign,
  verify,
} from 'node:crypto';
import { promisify } from 'node:util';
import type { DkimKey } from '@/core/sending/dkim';
import type { Context } from '../context';
import { seal, unseal } from '../secrets';

const generateRsa = promisify(generateKeyPair);

/**
 * A new key pair for DKIM: RSA of 2048 bits (RFC 8301) or Ed25519 (RFC 8463). The public half as it stands in p= (for Ed25519 the bare
 * 32 bytes), the private half sealed.
 */
export async function newDkimPair(
  ctx: Pick<Context, 'config'>,
  algorithm: 'rsa' | 'ed25519' = 'rsa',
): Promise<{ publicKey: string; sealed: Buffer }> {
  const { publicKey, privateKey } =
    algorithm === 'rsa' ? await generateRsa('rsa', { modulusLength: 2048 }) : generateKeyPairSync('ed25519');
  const der = publicKey.export({ type: 'spki', format: 'der' });
  return {
    publicKey: (algorithm === 'rsa' ? der : der.subarray(-32)).toString('base64'),
    sealed: seal(privateKey.export({ type: 'pkcs8', format: 'pem' }).toString(), ctx.config.keys),
  };
}

/** What stands before the 32 bytes of an Ed25519 key in its SPKI form (RFC 8410). */
const ED25519_PREFIX = Buffer.from('302a300506032b6570032100', 'hex');

type SealedKey = { domain: string; selector: string; algorithm: 'rsa' | 'ed25519'; public_key: string; private_key: Buffer };

/** Opens a sealed key and proves that it signs for its public half; a bad key must never mean an unsigned letter. */
export function openDkimKey(ctx: Pick<Context, 'config'>, row: SealedKey): DkimKey {
  const key = createPrivateKey(unseal(row.private_key, ctx.config.keys));
  const bytes = Buffer.from(row.public_key, 'base64');
  const published: KeyObject = createPublicKey({
    key: row.algorithm === 'rsa' ? bytes : Buffer.concat([ED25519_PREFIX, bytes]),
    format: 'der',
    type: 'spki',
  });
  const probe = Buffer.from('inkset');
  const digest = row.algorithm === 'rsa' ? 'RSA-SHA256' : null;
  if (!verify(digest, probe, published, sign(digest, probe, key)))
    throw new Error(`The DKIM key of ${row.domain} does not match its public half.`);
  return { domain: row.domain, selector: row.selector, algorithm: row.algorithm, key };
}

/** The installation's own key, made at first use; for account mails and for newsletters that have no domain yet. */
export async function installationKey(ctx: Pick<Context, 'db' | 'config'>): Promise<DkimKey & { publicKey: string }> {
  let row = await ctx.db.selectFrom('installation').selectAll().executeTakeFirst();
  if (!row) {
    const pair = await newDkimPair(ctx);
    await ctx.db
      .insertInto('installation')
      .values({ selector: 'ink1', public_key: pair.publicKey, private_key: pair.sealed })
      .onConflict((c) => c.doNothing())
      .execute();
    row = await ctx.db.selectFrom('installation').selectAll().executeTakeFirstOrThrow();
  }
  return { ...openDkimKey(ctx, { ...row, algorithm: 'rsa', domain: ctx.config.mailDomain }), publicKey: row.public_key };
}
