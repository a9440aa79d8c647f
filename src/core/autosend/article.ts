import { Readability } from '@mozilla/readability';
import { parseHTML } from 'linkedom';
import type { Document } from '../writing/document';
import { fromHtml } from '../writing/from-html';
import { shallow } from '../writing/shallow';

const MOST_HTML = 2_000_000;
/** A page with more elements than this is no article, and would be looked at for long. */
const MOST_ELEMENTS = 30_000;

/** The article of a web page as a document, without what stands around it; null where the page has none that can be told. May take long: call it on a thread. */
export function readArticle(html: string, url: string): Document | null {
  const text = shallow(html.slice(0, MOST_HTML));
  // Without an element that is one, there is no document to look in.
  const { document } = parseHTML(/<html[\s>]/i.test(text) ? text : `<!doctype html><html><body>${text}</body></html>`);
  const found = new Readability(document as never, { maxElemsToParse: MOST_ELEMENTS, keepClasses: false }).parse();
  const read = found?.content ? fromHtml(found.content, url) : null;
  return read && read.nodes.length > 0 ? read : null;
}
