import { Parser } from 'htmlparser2';
import { type Document, type Inline, type Mark, MOST_CREDIT, type Node } from './document';
import { shallow } from './shallow';
import { whole, withoutMarks } from './slots';

/** Beyond this the rest is dropped: a post is not a book, and nobody shall keep us busy. */
const MOST_HTML = 1_000_000;
const MOST_NODES = 3_000;
/** Lists in lists and quotes in quotes deeper than this lie flat in the last of them. */
const MOST_DEEP = 12;

const SKIPPED = new Set(
  'script style template head title object embed svg math noscript form input textarea select button canvas'.split(' '),
);
/** A film, a sound or something set in from elsewhere becomes a card that leads to it. */
const MEDIA = new Set(['video', 'audio', 'iframe']);
const MARKS: Record<string, Mark> = {
  b: 'bold',
  strong: 'bold',
  i: 'italic',
  em: 'italic',
  cite: 'italic',
  u: 'underline',
  ins: 'underline',
  s: 'strike',
  del: 'strike',
  strike: 'strike',
  code: 'code',
  kbd: 'code',
  tt: 'code',
  sub: 'sub',
  sup: 'sup',
};
const BLOCKS = new Set(
  'p div section article figure header footer main aside nav address center dl dt dd details summary fieldset'.split(' '),
);
const HEADINGS: Record<string, 2 | 3> = { h1: 2, h2: 2, h3: 3, h4: 3, h5: 3, h6: 3 };

/** White space that is not one space. */
const UNEVEN = /\s\s|[^\S ]/;

/** Control and bidirectional override characters say nothing that a reader should see; halves of characters nothing can keep. */
export const plain = (text: string): string =>
  ODD.test(text)
    ? whole(withoutMarks(text)).replace(/[\u0000-\u0008\u000b\u000c\u000e-\u001f\u007f-\u009f\u202a-\u202e\u2066-\u2069]/g, '')
    : text;
/** Whatever of that is looked for first, since nearly every text has none of it. */
const ODD = /[\u0000-\u0008\u000b\u000c\u000e-\u001f\u007f-\u009f\u202a-\u202e\u2066-\u2069\ud800-\udfff\ue000\ue001]/;

/** A web or mail address made absolute, or undefined for anything else. */
function address(value: string | undefined, base: string, web = false): string | undefined {
  if (!value) return undefined;
  let url: URL;
  try {
    // Asking first whether it can be read would read it twice, and posts have thousands of them.
    url = new URL(value.trim(), base);
  } catch {
    return undefined;
  }
  const fine = url.protocol === 'https:' || url.protocol === 'http:' || (!web && url.protocol === 'mailto:');
  return fine && url.href.length <= 2_000 ? url.href : undefined;
}

/** A picture of a pixel or two, or one that is hidden, is there to count and not to be seen. */
function isUnseen({ width, height, style, hidden }: Record<string, string>): boolean {
  const tiny = (size: string | undefined) => size !== undefined && /^\s*\d/.test(size) && Number.parseFloat(size) <= 2;
  return (
    hidden !== undefined ||
    tiny(width) ||
    tiny(height) ||
    /(?:^|;)\s*(?:(?:max-)?(?:width|height)\s*:\s*[0-2](?:\.\d+)?(?:px)?\s*(?:;|!|$)|display\s*:\s*none|visibility\s*:\s*hidden|opacity\s*:\s*0(?:\.0+)?\s*(?:;|!|$))/i.test(
      style ?? '',
    )
  );
}

/** A picture that a script would put in once it comes into view stands there as something else until then. */
const LATER = ['data-src', 'data-lazy-src', 'data-original', 'data-orig-file'] as const;
const LATER_SETS = ['data-srcset', 'data-lazy-srcset'] as const;
/** Letters show no picture wider than this, twice as fine. */
const WIDEST = 1_400;

/** The best of a set of pictures (HTML, srcset): the largest that is not larger than a letter needs, else the smallest. */
function bestOf(set: string | undefined): string | undefined {
  const found = (set ?? '')
    .slice(0, 20_000)
    // A comma within an address has no space behind it.
    .split(/,\s/)
    .slice(0, 60)
    .flatMap((one) => {
      const [url, size = '1x'] = one.trim().split(/\s+/);
      const width = Number.parseFloat(size) * (size.endsWith('w') ? 1 : 700);
      return url && width > 0 ? [{ url: url.replace(/,+$/, ''), width }] : [];
    });
  const fit = found.filter((one) => one.width <= WIDEST).sort((a, b) => b.width - a.width);
  return (fit[0] ?? found.sort((a, b) => a.width - b.width)[0])?.url;
}

/** Where the picture of an `img` really is. */
function srcOf(attributes: Record<string, string>, fromSource: string | undefined): string | undefined {
  const later = LATER.map((name) => attributes[name]).find(Boolean);
  const set = LATER_SETS.map((name) => attributes[name]).find(Boolean) ?? attributes.srcset;
  const { src } = attributes;
  const placeholder =
    !src || /^data:/i.test(src) || /(?:blank|placeholder|spacer|loading|lazy)[^/]*\.(?:gif|png|svg|webp)(?:\?|$)/i.test(src);
  return later ?? (placeholder ? (bestOf(set) ?? fromSource ?? src) : (bestOf(attributes.srcset) ?? src));
}

type Box = { tag: string; nodes: Node[] };

/**
 * HTML from outside (a feed's item, something pasted) as a document: what it says, without anything it could do. Read in one pass by a streaming
 * parser that never goes back, so that its time grows with its length alone. Never throws.
 */
export function fromHtml(html: string, base: string): Document {
  const root: Box = { tag: '', nodes: [] };
  const boxes: Box[] = [root];
  let inline: Inline[] = [];
  let heading: 2 | 3 | null = null;
  let code: string | null = null;
  let caption = false;
  /** What a figure's caption says of who made it, and the element in which it does. */
  let credit: { tag: string; deep: number; words: string } | null = null;
  let skipping = 0;
  let count = 0;
  const marks: Mark[] = [];
  const links: (string | undefined)[] = [];
  /** Open lists, with how many boxes were open when each began, and whether it stands in the item before it. */
  const lists: { node: Extract<Node, { kind: 'list' }>; deep: number; within: boolean }[] = [];
  /** The picture of a `picture` that its `img` does not name, and what of a film or a sound is known so far. */
  let fromSource: string | undefined;
  let media: { href: string | undefined; title: string; picture: string | undefined } | null = null;
  const tables: { rows: { head: boolean; cells: Inline[][] }[]; open: boolean }[] = [];

  const put = (node: Node) => {
    if (count < MOST_NODES) boxes.at(-1)!.nodes.push(node);
    count += 1;
  };
  const trimmed = (): Inline[] => {
    const runs = inline;
    inline = [];
    const first = runs[0];
    if (first?.kind === 'text') first.text = first.text.trimStart();
    while (runs.length) {
      const last = runs.at(-1)!;
      if (last.kind === 'break') runs.pop();
      else if (last.kind !== 'text') break;
      else {
        last.text = last.text.trimEnd();
        if (last.text !== '') break;
        runs.pop();
      }
    }
    return runs.filter((one) => one.kind !== 'text' || one.text !== '');
  };
  const flush = () => {
    const runs = trimmed();
    if (runs.length === 0) return;
    const table = tables.at(-1);
    if (table?.open) {
      const cell = table.rows.at(-1)?.cells.at(-1);
      if (cell) {
        if (cell.length) cell.push({ kind: 'break' });
        cell.push(...runs);
        return;
      }
    }
    const last = boxes.at(-1)!.nodes.at(-1);
    if (caption && last?.kind === 'picture') last.caption = [...(last.caption ?? []), ...runs];
    else put(heading ? { kind: 'heading', level: heading, inline: runs } : { kind: 'paragraph', inline: runs });
  };
  const say = (text: string) => {
    const clean = plain(text);
    // Most texts have nothing but single spaces.
    const words = UNEVEN.test(clean) ? clean.replace(/\s+/g, ' ') : clean;
    const before = inline.at(-1);
    const glued = before === undefined || before.kind === 'break' || (before.kind === 'text' && before.text.endsWith(' '));
    const value = glued ? words.trimStart() : words;
    if (!value) return;
    const href = links.at(-1);
    const own = marks.length > 1 ? [...new Set(marks)] : [...marks];
    if (before?.kind === 'text' && before.href === href && (before.marks ?? []).join() === own.join()) before.text += value;
    else inline.push({ kind: 'text', text: value, ...(own.length ? { marks: own } : {}), ...(href ? { href } : {}) });
  };
  const close = (tag: string) => {
    const at = boxes.findLastIndex((box) => box.tag === tag);
    if (at > 0) boxes.length = at;
  };

  const parser = new Parser(
    {
      onopentag(tag, attributes) {
        if (skipping > 0 || SKIPPED.has(tag)) {
          if (SKIPPED.has(tag) && tag !== 'input' && tag !== 'embed') skipping += 1;
          return;
        }
        if (code !== null) return;
        if (tag === 'source') {
          if (media) media.href ??= address(attributes.src, base, true);
          else fromSource ??= bestOf(attributes.srcset);
          return;
        }
        if (MEDIA.has(tag)) {
          // What is set in without a name or a size is there for a program, and not to be read.
          if (
            tag === 'iframe' &&
            (isUnseen(attributes) || !(attributes.title || Number.parseInt(attributes.width ?? '', 10) >= 200))
          )
            return;
          const href = address(attributes.src ?? attributes['data-src'], base, true);
          const picture = address(attributes.poster, base, true);
          const title = plain(attributes.title ?? attributes['aria-label'] ?? '').slice(0, 200);
          media = { href, title, picture };
          return;
        }
        if (media) return;
        if (caption && !credit && /(^|[\s_-])credits?($|[\s_-])/i.test(attributes.class ?? ''))
          credit = { tag, deep: 0, words: '' };
        else if (credit && tag === credit.tag) credit.deep += 1;
        if (MARKS[tag]) marks.push(MARKS[tag]);
        else if (tag === 'a') links.push(address(attributes.href, base));
        else if (tag === 'br') inline.push({ kind: 'break' });
        else if (tag === 'img') {
          const src = address(srcOf(attributes, fromSource), base, true);
          if (!src || isUnseen(attributes)) return;
          const href = links.at(-1);
          flush();
          if (!tables.at(-1)?.open)
            put({ kind: 'picture', src, alt: plain(attributes.alt ?? '').slice(0, 1_000), ...(href ? { href } : {}) });
        } else if (tag === 'hr') {
          flush();
          put({ kind: 'divider' });
        } else if (HEADINGS[tag]) {
          flush();
          heading = HEADINGS[tag];
        } else if (tag === 'pre') {
          flush();
          code = '';
        } else if (tag === 'ul' || tag === 'ol') {
          flush();
          if (boxes.length > MOST_DEEP) return;
          const node: Node = { kind: 'list', ordered: tag === 'ol', items: [] };
          const outer = lists.at(-1);
          // A list right in a list belongs to the item before it.
          const before = outer && boxes.length === outer.deep ? outer.node.items.at(-1) : undefined;
          if (before) boxes.push({ tag: 'item', nodes: before });
          put(node);
          lists.push({ node, deep: boxes.length, within: before !== undefined });
        } else if (tag === 'li') {
          flush();
          const list = lists.at(-1);
          if (!list || boxes.length > MOST_DEEP) return;
          const box: Box = { tag: 'li', nodes: [] };
          list.node.items.push(box.nodes);
          boxes.push(box);
        } else if (tag === 'blockquote') {
          flush();
          if (boxes.length > MOST_DEEP) return;
          const nodes: Node[] = [];
          put({ kind: 'quote', nodes });
          boxes.push({ tag, nodes });
        } else if (tag === 'table') {
          flush();
          tables.push({ rows: [], open: tables.length === 0 });
        } else if (tag === 'tr') tables.at(0)?.rows.push({ head: false, cells: [] });
        else if (tag === 'td' || tag === 'th') {
          flush();
          const row = tables.at(0)?.rows.at(-1);
          row?.cells.push([]);
          if (row && tag === 'th' && row.cells.length === 1) row.head = true;
        } else if (tag === 'figcaption') {
          flush();
          caption = true;
        } else if (BLOCKS.has(tag)) flush();
      },
      ontext(text) {
        // Between the tags of a film stands what a program says that cannot show it.
        if (skipping > 0 || media) return;
        if (code !== null) code += plain(text);
        else if (credit) credit.words += plain(text);
        else say(text);
      },
      onclosetag(tag) {
        if (SKIPPED.has(tag)) {
          if (tag !== 'input' && tag !== 'embed' && skipping > 0) skipping -= 1;
          return;
        }
        if (skipping > 0) return;
        if (MEDIA.has(tag) && media) {
          const { href, title, picture } = media;
          media = null;
          if (!href) return;
          flush();
          put({ kind: 'card', href, title: title || new URL(href).host, words: '', picture: picture ?? '' });
          return;
        }
        if (media) return;
        if (tag === 'picture') fromSource = undefined;
        if (credit && tag === credit.tag && credit.deep > 0) credit.deep -= 1;
        else if (credit && (tag === credit.tag || tag === 'figcaption')) {
          const words = credit.words.replace(/\s+/g, ' ').trim().slice(0, MOST_CREDIT);
          credit = null;
          const last = boxes.at(-1)!.nodes.at(-1);
          if (words && last?.kind === 'picture') last.credit = words;
          else if (words) say(words);
        }
        if (tag === 'pre') {
          if (code?.trim()) put({ kind: 'code', text: code.replace(/\r\n?/g, '\n').replace(/^\n|\s+$/g, '') });
          code = null;
        } else if (code !== null) return;
        else if (MARKS[tag]) {
          const at = marks.lastIndexOf(MARKS[tag]);
          if (at >= 0) marks.splice(at, 1);
        } else if (tag === 'a') links.pop();
        else if (HEADINGS[tag]) {
          flush();
          heading = null;
        } else if (tag === 'li' || tag === 'blockquote') {
          flush();
          close(tag);
        } else if (tag === 'ul' || tag === 'ol') {
          flush();
          if (lists.pop()?.within) close('item');
        } else if (tag === 'td' || tag === 'th') flush();
        else if (tag === 'table') {
          flush();
          const table = tables.pop();
          const rows = table?.rows.filter((row) => row.cells.some((cell) => cell.length)) ?? [];
          if (table?.open && rows.length) put({ kind: 'table', rows });
        } else if (tag === 'figcaption') {
          flush();
          caption = false;
        } else if (BLOCKS.has(tag)) flush();
      },
    },
    { decodeEntities: true, lowerCaseTags: true },
  );
  parser.write(shallow(html.slice(0, MOST_HTML)));
  parser.end();
  flush();
  return { version: 1, nodes: prune(root.nodes) };
}

/** Without lists and quotes that hold nothing. */
function prune(nodes: Node[]): Node[] {
  return nodes.flatMap((node): Node[] => {
    if (node.kind === 'quote') {
      const inner = prune(node.nodes);
      return inner.length ? [{ ...node, nodes: inner }] : [];
    }
    if (node.kind === 'list') {
      const items = node.items.map(prune).filter((item) => item.length);
      return items.length ? [{ ...node, items }] : [];
    }
    return [node];
  });
}
