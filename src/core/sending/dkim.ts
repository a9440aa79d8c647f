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
  'feedback-id',
];

/** Relaxed header canonicalisation (RFC 6376 3.4.2): name lower-cased, folds undone, runs of white space as one space. */
export function relaxedHeader(name: string, value: string): string {
  return `${name.toLowerCase().trim()}:${value
    .replace(/\r\n/g, '')
    .replace(/[\t ]+/g, ' ')
    .trim()}`;
}

/**
 * Relaxed body canonicalisation (RFC 6376 3.4.4): white space at the end of a line goes, runs of it become one space, empty lines at the end go.
 * The bodies we make are that already (see mime.ts), so the usual case copies nothing.
 */
export function relaxedBody(body: Buffer): Buffer {
  const plain = !(body.includes('\t') || body.includes('  ') || body.includes(' \r\n'));
  const text = plain
    ? body
    : Buffer.from(
        body
          .toString('latin1')
          .replace(/[ \t]+(?=\r\n|$)/g, '')
          .replace(/[ \t]+/g, ' '),
        'latin1',
      );
  let end = text.length;
  while (end >= 4 && text.toString('latin1', end - 4, end) === '\r\n\r\n') end -= 2;
  return end === 2 && text[0] === 13 ? text.subarray(0, 0) : text.subarray(0, end);
}

export type Signable = {
  headers: [name: string, value: string][];
  body: Buffer;
  /** SHA-256 of the relaxed body, where it is known already. */
  bodyHash?: Buffer;
};

/** The list of signed fields, folded under 78 characters; the same for every copy of a letter. */
const foldedNames = new Map<string, string>();
function folded(names: string): string {
  const known = foldedNames.get(names) ?? names.replace(/(.{40,60}?:)/g, '$1\r\n  ');
  if (foldedNames.size < 100) foldedNames.set(names, known);
  return known;
}

/**
 * Signs a message with rsa-sha256 (off the calling thread) or ed25519-sha256 (RFC 8463), c=relaxed/relaxed (RFC 6376). Returns the value
 * of the DKIM-Signature field, folded. The body must end with CRLF. Rejects if the key cannot sign.
 */
export function signDkim(message: Signable, by: DkimKey): Promise<string> {
  const bodyHash = message.bodyHash ?? createHash('sha256').update(relaxedBody(message.body)).digest();
  const present = new Map(message.headers.map(([name, value]) => [name.toLowerCase(), value]));
  const names = SIGNED.filter((name) => present.has(name));
  const unsigned =
    `v=1; a=${by.algorithm}-sha256; c=relaxed/relaxed;\r\n d=${by.domain}; s=${by.selector};\r\n` +
    ` h=${folded(names.join(':'))};\r\n bh=${bodyHash.toString('base64')};\r\n b=`;
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
export async function signatureFields(message: Signable, keys: DkimKey[]): Promise<string> {
  const values = await Promise.all(keys.map((key) => signDkim(message, key)));
  return values.map((value) => `DKIM-Signature: ${value}\r\n`).join('');
}
