/** Names that a declaration of the document itself may give: XML's, else HTML's. Read as Latin-1, in which every declaration is legible. */
const DECLARED = /^\s*<\?xml[^>]*?\sencoding\s*=\s*["']([\w.:-]+)["']|<meta[^>]+charset\s*=\s*["']?([\w.:-]+)/i;
const FIRST_BYTES = 1_024;

/** What Windows-1252 has where Latin-1 has control characters; Node decodes both alike. */
const WINDOWS =
  '\u20ac\u0081\u201a\u0192\u201e\u2026\u2020\u2021\u02c6\u2030\u0160\u2039\u0152\u008d\u017d\u008f\u0090\u2018\u2019\u201c\u201d\u2022\u2013\u2014\u02dc\u2122\u0161\u203a\u0153\u009d\u017e\u0178';
/** What Node's decoder made of Windows-1252, as it is meant. */
export const fromWindows = (text: string): string => text.replace(/[\u0080-\u009f]/g, (c) => WINDOWS[c.charCodeAt(0) - 0x80]!);
function decode(by: TextDecoder, bytes: Uint8Array): string {
  const text = by.decode(bytes);
  return by.encoding === 'windows-1252' ? fromWindows(text) : text;
}

function decoder(name: string | undefined): TextDecoder | null {
  if (!name) return null;
  try {
    return new TextDecoder(name.trim().toLowerCase());
  } catch {
    return null;
  }
}

/** What is not plain ASCII, and what could not be read. */
const BEYOND = /[^\0-\x7f\ufffd]/g;
const UNREAD = /\ufffd/g;
/** How often. Counted by what is left without it: a list of millions would be made for nothing. */
const many = (text: string, what: RegExp): number => text.length - text.replace(what, '').length;

/** A text that is UTF-8 to its last byte, and says something in it that ASCII cannot; else null. */
function plainlyUtf8(bytes: Uint8Array): string | null {
  try {
    const text = new TextDecoder('utf-8', { fatal: true }).decode(bytes);
    return text.search(BEYOND) >= 0 ? text : null;
  } catch {
    return null;
  }
}

/** A text that is called UTF-8, or nothing: where most of what goes beyond ASCII is none it is Windows-1252; a few broken letters are broken letters. */
function asUtf8(bytes: Uint8Array): string {
  const text = new TextDecoder('utf-8').decode(bytes);
  const wrong = many(text, UNREAD);
  return wrong > 0 && wrong >= many(text, BEYOND) ? decode(new TextDecoder('windows-1252'), bytes) : text;
}

/**
 * A text as it was meant: by its byte order mark, else the charset of its Content-Type, else its own declaration (RFC 7303 section 3), else UTF-8
 * where it is that, else Windows-1252. A name that nobody knows counts as none, and so does one that its bytes give the lie: UTF-16 without a zero, UTF-8 that is
 * none, Latin-1 that is UTF-8 throughout. Never throws; what cannot be read becomes U+FFFD.
 */
export function decodeText(bytes: Uint8Array, contentType: string | null): string {
  const [a, b, c] = bytes;
  if (a === 0xef && b === 0xbb && c === 0xbf) return new TextDecoder('utf-8').decode(bytes);
  if (a === 0xff && b === 0xfe) return new TextDecoder('utf-16le').decode(bytes);
  if (a === 0xfe && b === 0xff) return new TextDecoder('utf-16be').decode(bytes);
  // UTF-16 without a mark: every other byte of the first tag is zero.
  if (a === 0x3c && b === 0) return new TextDecoder('utf-16le').decode(bytes);
  if (a === 0 && b === 0x3c) return new TextDecoder('utf-16be').decode(bytes);
  const head = new TextDecoder('latin1').decode(bytes.subarray(0, FIRST_BYTES));
  const found = DECLARED.exec(head);
  const named = [/;\s*charset\s*=\s*"?([^";\s]+)/i.exec(contentType ?? '')?.[1], found?.[1] ?? found?.[2]]
    .map(decoder)
    // What begins with a tag that can be read byte by byte is not of UTF-16, whatever is said.
    .find((one) => one !== null && !(one.encoding.startsWith('utf-16') && a === 0x3c));
  if (!named || named.encoding === 'utf-8') return asUtf8(bytes);
  return (named.encoding === 'windows-1252' ? plainlyUtf8(bytes) : null) ?? decode(named, bytes);
}
