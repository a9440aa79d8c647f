import { Parser } from 'htmlparser2';
import { cleanHtml } from './clean-html';

const BLOCKS = new Set('p div tr li h2 h3 h4 h5 h6 blockquote table ul ol pre dd dt'.split(' '));

/** What HTML of one's own says, as lines of text: addresses behind their words, pictures by their descriptions. */
export function plainOf(html: string): string {
  let out = '';
  const links: string[] = [];
  const parser = new Parser({
    onopentag(tag, { href, alt }) {
      if (tag === 'br') out += '\n';
      if (tag === 'img' && alt) out += `[${alt}]`;
      if (tag === 'a') links.push(href ?? '');
    },
    ontext(text) {
      out += text.replace(/\s+/g, ' ');
    },
    onclosetag(tag) {
      if (tag === 'a') {
        const href = links.pop();
        if (href && !out.endsWith(href)) out += ` (${href})`;
      }
      if (tag === 'td' || tag === 'th') out += ' ';
      if (BLOCKS.has(tag)) out += '\n';
    },
  });
  parser.write(cleanHtml(html));
  parser.end();
  return out
    .split('\n')
    .map((line) => line.replace(/\s+/g, ' ').trim())
    .join('\n')
    .replace(/\n{3,}/g, '\n\n')
    .trim();
}
