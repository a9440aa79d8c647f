import { Parser } from 'htmlparser2';
import { withoutMarks } from './slots';

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

/** A feed's text field (title, summary) as plain text on one line, at most `most` characters. */
export function plainLine(html: string, most: number): string {
  const short = html.slice(0, 100_000);
  // Twice, because feeds are known to escape their titles once too often.
  const line = withoutMarks(said(said(short)))
    .replace(/[\u0000-\u001f\u007f-\u009f\u202a-\u202e\u2066-\u2069\s]+/g, ' ')
    .trim();
  return line.length <= most ? line : `${line.slice(0, most - 1).trimEnd()}…`;
}
