import { Parser } from 'htmlparser2';
import { shallow } from './shallow';
import { whole, withoutMarks } from './slots';

const APART = new Set(['br', 'p', 'div', 'li', 'td', 'h1', 'h2', 'h3']);

/** What HTML says, without its tags; what stands in scripts and styles is not said. */
function said(html: string): string {
  const out: string[] = [];
  let hidden = 0;
  const parser = new Parser({
    onopentag: (name) => {
      if (name === 'script' || name === 'style') hidden += 1;
      if (APART.has(name)) out.push(' ');
    },
    onclosetag: (name) => {
      if (name === 'script' || name === 'style') hidden -= 1;
    },
    ontext: (text) => {
      if (hidden === 0) out.push(text);
    },
  });
  parser.end(html);
  return out.join('');
}

/** Of something longer no more is read. */
const MOST_READ = 100_000;
/** So many characters more than asked for have to be there before the rest of a text is left unread: what was cut off in the middle of lies beyond them. */
const BEYOND = 100;

/** What HTML from outside says (a title, a summary), on one line, at most `most` characters. Of a long one its beginning is read, and the more the less it says. */
export function plainLine(html: string, most: number): string {
  for (let length = most * 8 + BEYOND; ; length *= 8) {
    const part = html.slice(0, Math.min(length, MOST_READ));
    const once = said(shallow(part));
    // Feeds are known to escape their titles once too often; what looks like a tag after the first time is text.
    const line = plainText(said(once.replaceAll('<', '&lt;')), most + BEYOND);
    if (line.length === most + BEYOND || length >= Math.min(html.length, MOST_READ)) return plainText(line, most);
  }
}

/** Text from outside on one line, at most `most` characters: what looks like a tag in it is text too. No control or bidirectional characters. */
export function plainText(text: string, most: number): string {
  const line = whole(withoutMarks(text.slice(0, 400_000)))
    .replace(/[\u0000-\u001f\u007f-\u009f\u200e\u200f\u202a-\u202e\u2066-\u2069\ufeff\s]+/g, ' ')
    .trim();
  return line.length <= most ? line : `${line.slice(0, most - 1).trimEnd()}…`;
}
