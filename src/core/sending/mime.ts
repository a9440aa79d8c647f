import { createHash, type Hash } from 'node:crypto';
import { encodeWords, foldLines } from 'nodemailer/lib/mime-funcs';
import { encode, wrap } from 'nodemailer/lib/qp';
import { escapeHtml } from '../html';
import { chipOf, filledFor, PART_ENDS, partOf, pieces } from '../writing/slots';

/**
 * A letter as pre-encoded MIME source with slots. Everything that is the same for all readers is encoded once; filling a slot
 * touches only the slot. Each slot stands on lines of its own between soft line breaks (RFC 2045 6.7 rule 5), so the
 * pieces around it can be encoded without knowing what will stand there.
 */
export type MimeTemplate = {
  /** Header fields that are the same for everyone, in order. */
  fixedHeaders: [name: string, value: string][];
  /** May have slots, like the body. */
  subject: string;
  body: MimePiece[];
  /** The hash of what stands before the first slot, made once: a long text part is not hashed again for each reader. */
  begun: Hash;
};
type MimePiece = { kind: 'bytes'; bytes: Buffer } | { kind: 'slot'; name: string; html: boolean };

/** The header fields that differ from reader to reader. */
export type PersonalHeaders = { to: string; messageId: string; leaveUrl?: string; leaveMailto?: string };
export type Letter = { html: string; text: string; subject: string };
export type LetterHeaders = {
  fromName: string;
  fromAddress: string;
  replyTo?: string;
  /** The list's name for people and its stable id (RFC 2919). */
  list?: { name: string; id: string };
  /** What a provider's report of complaints names (campaign, customer, kind, sender), where it gives any. */
  feedbackId?: string;
  /** Written by a program to somebody who waits for it: nobody's holiday answers it (RFC 3834). */
  automatic?: boolean;
  date: Date;
  boundary: string;
  /** Only the text, for whoever wants no other. */
  textAlone?: boolean;
};

/** `bodyHash`: SHA-256 of the body, which is its own relaxed form (RFC 6376 3.4.4), since it is made so. */
export type MimeMessage = { headers: [name: string, value: string][]; body: Buffer; bodyHash: Buffer };

/** One line without control characters: what keeps a header from growing a second one (RFC 5322 2.2). */
export const headerText = (value: string) => value.replace(/[\u0000-\u001f\u007f\u2028\u2029]+/g, ' ').trim();

/** A display name and address as a mailbox (RFC 5322 3.4), the name quoted or as encoded words (RFC 2047). */
export function mailbox(name: string, address: string): string {
  const clean = headerText(name);
  if (!clean) return headerText(address);
  const phrase = /^[\x20-\x7e]*$/.test(clean) ? `"${clean.replace(/(["\\])/g, '\\$1')}"` : encodeWords(clean, 'Q', 52, true);
  return `${phrase} <${headerText(address)}>`;
}

/** Compiles a rendered letter into a MIME template: multipart/alternative, text first, both parts quoted-printable; or the text alone. */
export function compileMime(letter: Letter, headers: LetterHeaders): MimeTemplate {
  const { boundary } = headers;
  const part = (type: string) =>
    `--${boundary}\r\nContent-Type: ${type}; charset=utf-8\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\n`;
  const body: MimePiece[] = [];
  const raw = (text: string) => body.push({ kind: 'bytes', bytes: Buffer.from(text, 'latin1') });
  const content = (template: string, html: boolean) => {
    for (const piece of pieces(template.replace(/\r?\n/g, '\r\n'))) {
      if (piece.kind === 'slot') {
        raw('=\r\n');
        body.push({ kind: 'slot', name: piece.name, html });
        raw('=\r\n');
      } else raw(quotedPrintable(piece.text));
    }
    raw('\r\n');
  };
  if (headers.textAlone) content(letter.text, false);
  else {
    raw(part('text/plain'));
    content(letter.text, false);
    raw(part('text/html'));
    content(letter.html, true);
    raw(`--${boundary}--\r\n`);
  }
  const whole = joinBytes(body);
  const [first] = whole;
  return {
    subject: headerText(letter.subject),
    body: whole,
    begun: createHash('sha256').update(first?.kind === 'bytes' ? first.bytes : ''),
    fixedHeaders: [
      ['From', mailbox(headers.fromName, headers.fromAddress)],
      ...(headers.replyTo ? ([['Reply-To', headerText(headers.replyTo)]] as [string, string][]) : []),
      ['Date', rfc5322Date(headers.date)],
      ...(headers.list ? ([['List-Id', mailbox(headers.list.name, headers.list.id)]] as [string, string][]) : []),
      ...(headers.feedbackId ? ([['Feedback-ID', headerText(headers.feedbackId)]] as [string, string][]) : []),
      ...(headers.automatic ? ([['Auto-Submitted', 'auto-generated']] as [string, string][]) : []),
      ['MIME-Version', '1.0'],
      ...((headers.textAlone
        ? [
            ['Content-Type', 'text/plain; charset=utf-8'],
            ['Content-Transfer-Encoding', 'quoted-printable'],
          ]
        : [['Content-Type', `multipart/alternative; boundary="${boundary}"`]]) as [string, string][]),
    ],
  };
}

/** What a reader gave, by field (chips), and `in:SEGMENT` for each segment of a letter's parts that they were in. */
export type Known = Record<string, string>;
const NOTHING = Buffer.alloc(0);

/**
 * Fills a template for one reader: chips and parts by what is `known` of them, every other slot by its value. A slot without a value is filled with
 * nothing; a chip without an answer by what stands for it.
 */
export function fillMime(
  template: MimeTemplate,
  personal: PersonalHeaders,
  values: Record<string, string>,
  known: Known = {},
): MimeMessage {
  const value = (name: string) => {
    const chip = chipOf(name);
    return chip ? known[chip.field] || chip.fallback : (values[name] ?? '');
  };
  const inside = (segmentId: string) => known[`in:${segmentId}`] === '1';
  const shown: boolean[] = [];
  const chunks = template.body.map((piece) => {
    if (piece.kind === 'slot') {
      const part = partOf(piece.name);
      if (part) shown.push((shown.at(-1) ?? true) && inside(part.segmentId) === part.inside);
      if (piece.name === PART_ENDS) shown.pop();
      if (part || piece.name === PART_ENDS) return NOTHING;
    }
    if (shown.at(-1) === false) return NOTHING;
    if (piece.kind === 'bytes') return piece.bytes;
    const said = value(piece.name);
    return Buffer.from(quotedPrintable(piece.html ? escapeHtml(said) : said), 'latin1');
  });
  const hash = template.begun.copy();
  for (const chunk of template.body[0]?.kind === 'bytes' ? chunks.slice(1) : chunks) hash.update(chunk);
  const leaving = [
    personal.leaveUrl && `<${personal.leaveUrl}>`,
    personal.leaveMailto && `<mailto:${personal.leaveMailto}>`,
  ].filter(Boolean);
  return {
    headers: [
      ...template.fixedHeaders,
      ['To', headerText(personal.to)],
      ['Subject', encodeWords(headerText(filledFor(template.subject, value, inside)), 'Q', 52, true)],
      ['Message-ID', personal.messageId],
      ...(leaving.length ? ([['List-Unsubscribe', leaving.join(',\r\n ')]] as [string, string][]) : []),
      ...(personal.leaveUrl ? ([['List-Unsubscribe-Post', 'List-Unsubscribe=One-Click']] as [string, string][]) : []),
    ],
    body: Buffer.concat(chunks),
    bodyHash: hash.digest(),
  };
}

/** Header fields as they stand on the wire: folded at 76, CRLF after each, the empty line last. */
export function headerBlock(headers: [string, string][]): string {
  const folded = headers.map(([name, value]) => {
    const line = `${name}: ${value}`;
    return line.length <= 76 || value.includes('\r\n ') ? line : foldLines(line, 76);
  });
  return `${folded.join('\r\n')}\r\n\r\n`;
}

/**
 * Quoted-printable (RFC 2045 6.7) whose relaxed canonical form is itself: no runs of white space, no tabs. A line that begins with a dot or with
 * "From " is encoded there, since programs on the way are known to change such lines. Lines are at most 76 characters.
 */
function quotedPrintable(text: string): string {
  // Almost all that is filled in is an address of ours: plain letters, and equals signs.
  if (text.length < 70 && /^[A-Za-z0-9][A-Za-z0-9:/?&;%_-]*$/.test(text)) return text;
  const even = encode(text)
    .replace(/\t/g, '=09')
    .replace(/ {2,}/g, (run) => ` ${'=20'.repeat(run.length - 1)}`);
  return wrap(even, 73)
    .replace(/^\./gm, '=2E')
    .replace(/^From /gm, '=46rom ');
}

/** Neighbouring byte pieces as one, so that filling concatenates as few buffers as there are slots. */
function joinBytes(all: MimePiece[]): MimePiece[] {
  const out: MimePiece[] = [];
  for (const piece of all) {
    const last = out.at(-1);
    if (piece.kind === 'bytes' && last?.kind === 'bytes') last.bytes = Buffer.concat([last.bytes, piece.bytes]);
    else out.push(piece.kind === 'bytes' ? { ...piece } : piece);
  }
  return out;
}

/** A date-time in UTC (RFC 5322 3.3). */
export const rfc5322Date = (date: Date) => date.toUTCString().replace(/GMT$/, '+0000');
