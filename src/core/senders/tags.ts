/**
 * Reads a tag list such as a DKIM key or DMARC record (RFC 6376 3.2, RFC 7489 6.4): names lower-cased, white space around
 * values dropped. A duplicate name or a part without `=` makes the list invalid: null.
 */
export function parseTags(text: string): Map<string, string> | null {
  const tags = new Map<string, string>();
  for (const part of text.split(';')) {
    if (part.trim() === '') continue;
    const equals = part.indexOf('=');
    if (equals < 1) return null;
    const name = part.slice(0, equals).trim().toLowerCase();
    if (!/^[a-z][a-z0-9_]*$/.test(name) || tags.has(name)) return null;
    tags.set(name, part.slice(equals + 1).trim());
  }
  return tags;
}
