import sanitizeHtml from 'sanitize-html';
import { withoutMarks } from './slots';

/**
 * HTML from outside (a feed's item), made safe and plain before it is stored: no scripts, styles, frames or forms; addresses
 * made absolute against the post's own; only http(s) and mailto links.
 */
export function sanitisePost(html: string, base: string): string {
  const absolute = (value: string | undefined) => {
    try {
      return value === undefined ? undefined : new URL(value, base).href;
    } catch {
      return undefined;
    }
  };
  const keep = (attributes: Record<string, string | undefined>) =>
    Object.fromEntries(Object.entries(attributes).filter((entry): entry is [string, string] => entry[1] !== undefined));
  return sanitizeHtml(withoutMarks(html), {
    allowedTags: [
      ...['p', 'br', 'a', 'strong', 'b', 'em', 'i', 'u', 's', 'sub', 'sup', 'code', 'pre', 'blockquote', 'ul', 'ol', 'li'],
      ...['h2', 'h3', 'h4', 'hr', 'img', 'figure', 'figcaption', 'table', 'thead', 'tbody', 'tr', 'td', 'th'],
    ],
    allowedAttributes: {
      a: ['href'],
      img: ['src', 'alt', 'width', 'height'],
      td: ['colspan', 'rowspan'],
      th: ['colspan', 'rowspan'],
    },
    allowedSchemes: ['http', 'https', 'mailto'],
    transformTags: {
      h1: 'h2',
      a: (tagName, attributes) => ({ tagName, attribs: keep({ href: absolute(attributes.href) }) }),
      img: (tagName, a) => ({
        tagName,
        attribs: keep({ src: absolute(a.src), alt: a.alt ?? '', width: a.width, height: a.height }),
      }),
    },
  }).trim();
}

/** A feed's text field (title, summary) as plain text on one line, at most `most` characters. */
export function plainLine(html: string, most: number): string {
  // Twice, because feeds are known to escape their titles once too often.
  const strip = (text: string) =>
    sanitizeHtml(text, { allowedTags: [], allowedAttributes: {} })
      .replace(/&lt;/g, '<')
      .replace(/&gt;/g, '>')
      .replace(/&quot;/g, '"')
      .replace(/&#39;/g, "'")
      .replace(/&amp;/g, '&');
  const line = withoutMarks(strip(strip(html)))
    .replace(/[\u0000-\u001f\u007f\s]+/g, ' ')
    .trim();
  return line.length <= most ? line : `${line.slice(0, most - 1).trimEnd()}…`;
}
