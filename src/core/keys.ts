import { createHmac, hkdfSync, timingSafeEqual } from 'node:crypto';

/**
 * The installation's secrets by version. New things are signed and sealed with the current one; what carries an older version still opens,
 * so that a secret can be changed without breaking a link in any letter ever sent.
 */
export type KeyRing = { current: number; secrets: ReadonlyMap<number, string> };

const derived = new WeakMap<KeyRing, Map<string, Buffer>>();

/** The key of one purpose under one version (HKDF-SHA-256, RFC 5869), or null for a version the ring does not hold. No purpose's key tells anything of another's. */
export function keyFor(ring: KeyRing, version: number, purpose: string): Buffer | null {
  const secret = ring.secrets.get(version);
  if (secret === undefined) return null;
  const known = derived.get(ring) ?? new Map<string, Buffer>();
  derived.set(ring, known);
  const name = `${version} ${purpose}`;
  const key = known.get(name) ?? Buffer.from(hkdfSync('sha256', secret, '', `inkset ${purpose}`, 32));
  known.set(name, key);
  return key;
}

const MAC_BYTES = 10;
const ALPHABET = 'abcdefghijklmnopqrstuvwxyz234567';

/** Base32 in lower case without padding (RFC 4648): survives mail programs that change the case of a local part. */
export function base32(bytes: Buffer): string {
  let out = '';
  let bits = 0;
  let value = 0;
  for (const byte of bytes) {
    value = (value << 8) | byte;
    bits += 8;
    while (bits >= 5) {
      out += ALPHABET[(value >>> (bits - 5)) & 31];
      bits -= 5;
    }
    value &= (1 << bits) - 1;
  }
  return bits ? out + ALPHABET[(value << (5 - bits)) & 31] : out;
}

/** Undoes `base32`; null for letters that are none of it, and for a text that is not the shortest of its bytes. */
export function fromBase32(text: string): Buffer | null {
  const bytes: number[] = [];
  let bits = 0;
  let value = 0;
  for (const letter of text.toLowerCase()) {
    const digit = ALPHABET.indexOf(letter);
    if (digit === -1) return null;
    value = ((value << 5) | digit) & 0xffff;
    bits += 5;
    if (bits >= 8) {
      bytes.push((value >>> (bits - 8)) & 255);
      bits -= 8;
    }
  }
  return bits < 5 && (value & ((1 << bits) - 1)) === 0 ? Buffer.from(bytes) : null;
}

const macOf = (key: Buffer, payload: Buffer) => createHmac('sha256', key).update(payload).digest().subarray(0, MAC_BYTES);

/** A token that says these bytes for one purpose: version, bytes, 80 bits of HMAC-SHA-256. */
export function issue(ring: KeyRing, purpose: string, payload: Buffer): string {
  const mac = macOf(keyFor(ring, ring.current, purpose)!, payload);
  return base32(Buffer.concat([Buffer.from([ring.current]), payload, mac]));
}

/** The bytes of a token of this purpose and length; null for any other, forged, cut short or of a version we do not hold. */
export function redeem(ring: KeyRing, purpose: string, token: string, length: number): Buffer | null {
  const bytes = fromBase32(token);
  if (!bytes || bytes.length !== 1 + length + MAC_BYTES) return null;
  const key = keyFor(ring, bytes[0]!, purpose);
  if (!key) return null;
  const payload = bytes.subarray(1, 1 + length);
  return timingSafeEqual(bytes.subarray(1 + length), macOf(key, payload)) ? payload : null;
}

/** A signature over a text for one purpose: the version, a point, 80 bits in base32. */
export const signText = (ring: KeyRing, purpose: string, text: string): string =>
  `${ring.current}.${base32(macOf(keyFor(ring, ring.current, purpose)!, Buffer.from(text)))}`;

/** Is this the signature of the text for this purpose, under any version we hold? */
export function isSigned(ring: KeyRing, purpose: string, text: string, signature: string): boolean {
  const [version = '', mac = ''] = signature.split('.');
  const key = /^\d{1,3}$/.test(version) ? keyFor(ring, Number(version), purpose) : null;
  const given = fromBase32(mac);
  return key !== null && given?.length === MAC_BYTES && timingSafeEqual(given, macOf(key, Buffer.from(text)));
}
