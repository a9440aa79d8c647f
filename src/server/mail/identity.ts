import { createPrivateKey, createPublicKey, generateKeyPair, type KeyObject, sign, verify } from 'node:crypto';
import { promisify } from 'node:util';
import type { DkimKey } from '@/core/sending/dkim';
import type { Context } from '../context';
import { seal, unseal } from '../secrets';

const generate = promisify(generateKeyPair);

/** A new 2048-bit RSA key pair for DKIM (RFC 8301): the public half as it stands in p=, the private half sealed. */
export async function newDkimPair(ctx: Pick<Context, 'config'>): Promise<{ publicKey: string; sealed: Buffer }> {
  const { publicKey, privateKey } = await generate('rsa', { modulusLength: 2048 });
  return {
    publicKey: publicKey.export({ type: 'spki', format: 'der' }).toString('base64'),
    sealed: seal(privateKey.export({ type: 'pkcs8', format: 'pem' }).toString(), ctx.config.secret),
  };
}

/** Opens a sealed key and proves that it signs for its public half; a bad key must never mean an unsigned letter. */
export function openDkimKey(
  ctx: Pick<Context, 'config'>,
  row: { domain: string; selector: string; public_key: string; private_key: Buffer },
): DkimKey {
  const key = createPrivateKey(unseal(row.private_key, ctx.config.secret));
  const published: KeyObject = createPublicKey({ key: Buffer.from(row.public_key, 'base64'), format: 'der', type: 'spki' });
  const probe = Buffer.from('inkset');
  if (!verify('RSA-SHA256', probe, published, sign('RSA-SHA256', probe, key)))
    throw new Error(`The DKIM key of ${row.domain} does not match its public half.`);
  return { domain: row.domain, selector: row.selector, key };
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
  return { ...openDkimKey(ctx, { ...row, domain: ctx.config.mailDomain }), publicKey: row.public_key };
}
