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

/** What HTML from outside says (a title, a summary), on one line, at most `most` characters. */
export function plainLine(html: string, most: number): string {
  const once = said(shallow(html.slice(0, 100_000)));
  // Feeds are known to escape their titles once too often; what looks like a tag after the first time is text.
  return plainText(said(once.replaceAll('<', '&lt;')), most);
}

/** Text from outside on one line, at most `most` characters: what looks like a tag in it is text too. No control or bidirectional characters. */
export function plainText(text: string, most: number): string {
  const line = whole(withoutMarks(text.slice(0, 400_000)))
    .replace(/[\u0000-\u001f\u007f-\u009f\u200e\u200f\u202a-\u202e\u2066-\u2069\ufeff\s]+/g, ' ')
    .trim();
  return line.length <= most ? line : `${line.slice(0, most - 1).trimEnd()}…`;
}
