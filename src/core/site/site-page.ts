import { Parser } from 'htmlparser2';
import { feedsNamed } from '../autosend/discover';

/** What a site's own page says of itself. */
export type SitePage = {
  /** The colour it gives its browser's bar, as #rrggbb; null where it gives none that we read. */
  colour: string | null;
  /** The feed it names (RSS, Atom or JSON Feed), absolute. */
  feed: string | null;
  /** BCP 47, as its root element has it. */
  language: string | null;
  description: string;
};

/** A colour as sites write it for their browser's bar: #rgb, #rrggbb or rgb(). */
function hexOf(text: string): string | null {
  const value = text.trim().toLowerCase();
  const short = /^#([0-9a-f])([0-9a-f])([0-9a-f])$/.exec(value);
  if (short) return `#${short[1]!.repeat(2)}${short[2]!.repeat(2)}${short[3]!.repeat(2)}`;
  if (/^#[0-9a-f]{6}$/.test(value)) return value;
  const parts = /^rgb\(\s*(\d{1,3})[\s,]+(\d{1,3})[\s,]+(\d{1,3})\s*\)$/.exec(value)?.slice(1).map(Number);
  if (!parts || parts.some((part) => part > 255)) return null;
  return `#${parts.map((part) => part.toString(16).padStart(2, '0')).join('')}`;
}

/**
 * Reads the head of a page (HTML Living Standard: meta theme-color, link rel=alternate). Of several colours the one for light surroundings counts;
 * of several feeds the first.
 */
export function readSitePage(html: string, url: string): SitePage {
  const head = html.slice(0, 300_000);
  const feed = feedsNamed(head, url)[0]?.url.slice(0, 500) ?? null;
  const found: SitePage = { colour: null, feed, language: null, description: '' };
  let over = false;
  const parser = new Parser({
    onopentag(name, attributes) {
      if (over) return;
      if (name === 'body') over = true;
      if (name === 'html' && attributes.lang) found.language = attributes.lang.trim().toLowerCase().slice(0, 35) || null;
      if (name === 'meta') {
        const kind = attributes.name?.toLowerCase();
        const content = attributes.content ?? '';
        if (kind === 'theme-color' && !/dark/i.test(attributes.media ?? '')) found.colour ??= hexOf(content);
        if (kind === 'description') found.description ||= content.replace(/\s+/g, ' ').trim().slice(0, 200);
      }
    },
  });
  // What matters stands at the head.
  parser.write(head);
  parser.end();
  return found;
}
