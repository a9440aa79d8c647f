/** A challenge as altcha-lib makes it (PBKDF2). */
export type WorkChallenge = {
  parameters: { algorithm: string; nonce: string; salt: string; cost: number; keyLength: number; keyPrefix: string };
  signature?: string;
};

const bytes = (hex: string) => Uint8Array.from(hex.match(/../g) ?? [], (pair) => Number.parseInt(pair, 16));
const AT_ONCE = 4;

/**
 * Solves a proof-of-work challenge with the browser's own cryptography, some tries at once, off the page's thread. Returns what has to be
 * sent in as `proof`. Rejects where the page may not use Web Cryptography (it is not served over https).
 */
export async function solve(challenge: WorkChallenge): Promise<string> {
  const { algorithm, nonce, salt, cost, keyLength, keyPrefix } = challenge.parameters;
  const start = bytes(nonce);
  const attempt = async (counter: number) => {
    const password = new Uint8Array(start.length + 4);
    password.set(start);
    new DataView(password.buffer).setUint32(start.length, counter);
    const key = await crypto.subtle.importKey('raw', password, 'PBKDF2', false, ['deriveBits']);
    const how = { name: 'PBKDF2', salt: bytes(salt), iterations: cost, hash: algorithm.slice(7) };
    const derived = new Uint8Array(await crypto.subtle.deriveBits(how, key, keyLength * 8));
    return Array.from(derived, (byte) => byte.toString(16).padStart(2, '0')).join('');
  };
  for (let from = 0; ; from += AT_ONCE) {
    const keys = await Promise.all(Array.from({ length: AT_ONCE }, (_, n) => attempt(from + n)));
    const found = keys.findIndex((key) => key.startsWith(keyPrefix));
    if (found >= 0) return JSON.stringify({ challenge, solution: { counter: from + found, derivedKey: keys[found] } });
  }
}
