import { type AddressObject, simpleParser } from 'mailparser';
import type { Message } from '@/core/delivery/came-back';
import { whole } from '@/core/writing/slots';

/** Of a part that is read as text no more than this: no notice says more of use. */
const MOST_PART = 100_000;
const MOST_PARTS = 50;

export type TakenApart = {
  message: Message;
  /** The head of our letter, as it came back with it; empty where it did not. */
  original: string;
  /** What is attached, as bytes: reports come as such. */
  files: { type: string; name: string; bytes: Buffer }[];
};

const LETTER = ['message/rfc822', 'text/rfc822-headers', 'message/global', 'message/global-headers'];

/** Text that a database can keep: without NUL, and without halves of characters. */
const clean = (text: string) => whole(text).replace(/\u0000/g, '');

const addressOf = (found: AddressObject | AddressObject[] | undefined) =>
  clean((Array.isArray(found) ? found[0]?.text : found?.text)?.slice(0, 400) ?? '');

/**
 * Takes a mail apart (RFC 2045 to 2049). Whatever cannot be read of it is left out; it never throws for what stands in it. `envelopeFrom` is its sender on the way,
 * empty for a notice.
 */
export async function takeApart(bytes: Buffer, envelopeFrom: string): Promise<TakenApart> {
  const mail = await simpleParser(bytes, {
    skipImageLinks: true,
    skipTextToHtml: true,
    skipHtmlToText: bytes.length > 1_000_000,
    // Kept apart by this, the machine part of a notice comes as an attachment.
    keepDeliveryStatus: true,
    maxHtmlLengthToParse: 500_000,
  }).catch(() => null);
  const headers = new Map<string, string>();
  for (const { key, line } of mail?.headerLines ?? [])
    if (!headers.has(key))
      headers.set(
        key,
        clean(line.slice(key.length + 1).replace(/\r?\n[ \t]+/g, ' '))
          .trim()
          .slice(0, 2_000),
      );
  const text = clean(mail?.text ?? '');
  const attached = (mail?.attachments ?? []).slice(0, MOST_PARTS);
  const parts = attached.map((one) => ({
    type: one.contentType.toLowerCase(),
    text: /^(?:text|message)\/|octet-stream/.test(one.contentType)
      ? clean(one.content.subarray(0, MOST_PART).toString('utf8'))
      : '',
  }));
  if (text) parts.unshift({ type: 'text/plain', text: text.slice(0, MOST_PART) });
  return {
    message: {
      envelopeFrom: clean(envelopeFrom),
      from: addressOf(mail?.from),
      subject: clean((mail?.subject ?? '').slice(0, 400)),
      headers,
      parts,
      text: text.slice(0, MOST_PART),
    },
    original: parts.find(({ type }) => LETTER.includes(type))?.text ?? '',
    files: attached.map((one) => ({ type: one.contentType.toLowerCase(), name: one.filename ?? '', bytes: one.content })),
  };
}
