import { createHash, type KeyObject, sign } from 'node:crypto';

export type DkimKey = { domain: string; selector: string; algorithm: 'rsa' | 'ed25519'; key: KeyObject };

/**
 * The fields we sign when they are there (RFC 6376 5.4.1). RFC 8058 section 4 wants both List-Unsubscribe fields under the
 * signature, else receivers ignore the one-click promise.
 */
const SIGNED = [
  'from',
  'to',
  'reply-to',
  'subject',
  'date',
  'message-id',
  'mime-version',
  'content-type',
  'list-id',
  'list-unsubscribe',
  'list-unsubscribe-post',
];

/** Relaxed header canonicalisation (RFC 6376 3.4.2): name lower-cased, folds undone, runs of white space as one space. */
export function relaxedHeader(name: string, value: string): string {
  return `${name.toLowerCase().trim()}:${value
    .replace(/\r\n/g, '')
    .replace(/[\t ]+/g, ' ')
    .trim()}`;
}

/** Simple body canonicalisation (RFC 6376 3.4.3): the bytes as they are, empty lines at the end reduced to one CRLF. */
function simpleBody(body: Buffer): Buffer {
  let end = body.length;
  while (end >= 4 && body.toString('latin1', end - 4, end) === '\r\n\r\n') end -= 2;
  return body.subarray(0, end);
}

/**
 * Signs a message with rsa-sha256 (off the calling thread) or ed25519-sha256 (RFC 8463), c=relaxed/simple (RFC 6376). Returns the value
 * of the DKIM-Signature field, folded. The body must end with CRLF. Rejects if the key cannot sign.
 */
export function signDkim(headers: [string, string][], body: Buffer, by: DkimKey): Promise<string> {
  const bodyHash = createHash('sha256').update(simpleBody(body)).digest('base64');
  const present = new Map(headers.map(([name, value]) => [name.toLowerCase(), value]));
  const names = SIGNED.filter((name) => present.has(name));
  const unsigned =
    `v=1; a=${by.algorithm}-sha256; c=relaxed/simple; d=${by.domain}; s=${by.selector};\r\n` +
    ` h=${names.join(':')};\r\n bh=${bodyHash};\r\n b=`;
  const input = [
    ...names.map((name) => `${relaxedHeader(name, present.get(name) ?? '')}\r\n`),
    relaxedHeader('dkim-signature', unsigned),
  ];
  const text = Buffer.from(input.join(''));
  // Folding white space inside b= is allowed and dropped by the verifier (RFC 6376 3.5).
  const whole = (signature: Buffer) => unsigned + (signature.toString('base64').match(/.{1,72}/g) ?? []).join('\r\n ');
  // Ed25519 signs the hash of the header fields, not the fields (RFC 8463 section 3).
  if (by.algorithm === 'ed25519') return Promise.resolve(whole(sign(null, createHash('sha256').update(text).digest(), by.key)));
  return new Promise((resolve, reject) => {
    sign('RSA-SHA256', text, by.key, (error, signature) => (error ? reject(error) : resolve(whole(signature))));
  });
}

/** All signatures of a message as header fields, ready to stand before it. */
export async function signatureFields(headers: [string, string][], body: Buffer, keys: DkimKey[]): Promise<string> {
  const values = await Promise.all(keys.map((key) => signDkim(headers, body, key)));
  return values.map((value) => `DKIM-Signature: ${value}\r\n`).join('');
}
