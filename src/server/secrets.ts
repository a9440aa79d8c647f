import { createCipheriv, createDecipheriv, createHash, randomBytes } from 'node:crypto';
import { type KeyRing, keyFor } from '@/core/keys';

/** Encrypts text at rest with AES-256-GCM under the ring's current key: its version, 12 bytes nonce, 16 bytes tag, ciphertext. */
export function seal(plain: string, ring: KeyRing): Buffer {
  const nonce = randomBytes(12);
  const cipher = createCipheriv('aes-256-gcm', keyFor(ring, ring.current, 'at rest')!, nonce);
  const body = Buffer.concat([cipher.update(plain, 'utf8'), cipher.final()]);
  return Buffer.concat([Buffer.from([ring.current]), nonce, cipher.getAuthTag(), body]);
}

/** Undoes `seal`; throws if the bytes were changed or the ring does not hold their key. */
export function unseal(sealed: Buffer, ring: KeyRing): string {
  const key = keyFor(ring, sealed[0] ?? 0, 'at rest');
  if (!key) throw new Error(`This was sealed with secret ${sealed[0]}, which is not among INKSET_FORMER_SECRETS.`);
  const decipher = createDecipheriv('aes-256-gcm', key, sealed.subarray(1, 13));
  decipher.setAuthTag(sealed.subarray(13, 29));
  return Buffer.concat([decipher.update(sealed.subarray(29)), decipher.final()]).toString('utf8');
}

/** A token for a mailed link, and the hash of it that the database keeps. */
export function mailedToken(): { token: string; hash: Buffer } {
  const token = randomBytes(24).toString('base64url');
  return { token, hash: hashToken(token) };
}

/** SHA-256: enough for a token of 192 random bits. */
export const hashToken = (token: string) => createHash('sha256').update(token).digest();
