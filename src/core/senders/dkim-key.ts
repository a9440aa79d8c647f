import { createPublicKey } from 'node:crypto';
import { parseTags } from './tags';

export type DkimKeyRecord =
  | { ok: true; algorithm: 'rsa' | 'ed25519'; key: string; bits: number; testing: boolean; revoked: boolean }
  | { ok: false; reason: string };

const no = (reason: string): DkimKeyRecord => ({ ok: false, reason });

/**
 * Reads a DKIM key record (RFC 6376 section 3.6.1, RFC 8463 section 4): version first if at all, key type, hash and service lists, flags,
 * and the key itself with its size in bits. White space inside p= counts for nothing, since hosts cut long values anywhere.
 */
export function readDkimKey(text: string): DkimKeyRecord {
  const tags = parseTags(text);
  if (!tags) return no('It is not a list of tags (like “v=DKIM1; k=rsa; p=…”).');
  if (tags.has('v') && tags.get('v') !== 'DKIM1') return no('Its version is not DKIM1.');
  if (tags.has('v') && [...tags.keys()][0] !== 'v') return no('v=DKIM1 has to come first.');
  const algorithm = (tags.get('k') ?? 'rsa').toLowerCase();
  if (algorithm !== 'rsa' && algorithm !== 'ed25519') return no(`The key type “${algorithm}” is none that receivers know.`);
  const key = tags.get('p')?.replace(/\s+/g, '');
  if (key === undefined) return no('It has no key (p=).');
  const list = (name: string) =>
    (tags.get(name) ?? '')
      .toLowerCase()
      .split(':')
      .map((part) => part.trim())
      .filter(Boolean);
  if (tags.has('h') && !list('h').includes('sha256')) return no('Its h= does not allow sha256, which every signature uses.');
  if (tags.has('s') && !list('s').some((service) => service === '*' || service === 'email'))
    return no('Its s= does not allow email.');
  const base = { ok: true as const, algorithm: algorithm as 'rsa' | 'ed25519', key, testing: list('t').includes('y') };
  if (key === '') return { ...base, bits: 0, revoked: true };
  if (!/^[A-Za-z0-9+/]+={0,2}$/.test(key))
    return no('The key holds characters that are no base64; perhaps a quotation mark or a line break went in.');
  const bits = sizeOf(base.algorithm, key);
  return bits === null ? no('The key is not whole.') : { ...base, bits, revoked: false };
}

function sizeOf(algorithm: 'rsa' | 'ed25519', key: string): number | null {
  const bytes = Buffer.from(key, 'base64');
  if (algorithm === 'ed25519') return bytes.length === 32 ? 256 : null;
  for (const type of ['spki', 'pkcs1'] as const) {
    try {
      return createPublicKey({ key: bytes, format: 'der', type }).asymmetricKeyDetails?.modulusLength ?? null;
    } catch {}
  }
  return null;
}
