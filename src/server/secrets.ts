import { createCipheriv, createDecipheriv, createHash, hkdfSync, randomBytes } from 'node:crypto';

const key = (secret: string, purpose: string) => Buffer.from(hkdfSync('sha256', secret, '', `inkset ${purpose}`, 32));

/** Encrypts text at rest with AES-256-GCM: 12 bytes nonce, 16 bytes tag, ciphertext. */
export function seal(plain: string, secret: string): Buffer {
  const nonce = randomBytes(12);
  const cipher = createCipheriv('aes-256-gcm', key(secret, 'at rest'), nonce);
  const body = Buffer.concat([cipher.update(plain, 'utf8'), cipher.final()]);
  return Buffer.concat([nonce, cipher.getAuthTag(), body]);
}

/** Undoes `seal`; throws if the bytes were changed or the secret is another one. */
export function unseal(sealed: Buffer, secret: string): string {
  const decipher = createDecipheriv('aes-256-gcm', key(secret, 'at rest'), sealed.subarray(0, 12));
  decipher.setAuthTag(sealed.subarray(12, 28));
  return Buffer.concat([decipher.update(sealed.subarray(28)), decipher.final()]).toString('utf8');
}

/** A token for a mailed link, and the hash of it that the database keeps. */
export function mailedToken(): { token: string; hash: Buffer } {
  const token = randomBytes(24).toString('base64url');
  return { token, hash: hashToken(token) };
}

/** SHA-256: enough for a token of 192 random bits. */
export const hashToken = (token: string) => createHash('sha256').update(token).digest();
