import { Parser } from 'htmlparser2';
import type { Html, Nodes, PhrasingContent, RootContent } from 'mdast';
import { fromMarkdown as parse } from 'mdast-util-from-markdown';
import { gfmFromMarkdown } from 'mdast-util-gfm';
import { gfm } from 'micromark-extension-gfm';
import { parse as parseYaml } from 'yaml';
import {
  ALIGNS,
  type BlockLook,
  type Document,
  type Inline,
  MARKS,
  type Mark,
  MOST_COLUMNS,
  MOST_CREDIT,
  MOST_LATEST,
  type Node,
  type Picture,
  SPACES,
  WIDTHS,
} from './document';
import { fromHtml, plain } from './from-html';

/** What a file says of itself before its words; only what we know is taken, and only as text. */
export type Front = Partial<
  Record<'title' | 'subtitle' | 'subject' | 'preview' | 'slug' | 'description' | 'canonical' | 'author', string>
> & {
  topics?: string[];
};

/** Beyond this the rest is dropped, as with HTML. */
const MOST = 1_000_000;
const MOST_NODES = 5_000;

/** The element that a piece of HTML opens or closes, with its attributes. */
type Tag = { name: string; closes: boolean; attributes: Record<string, string> };
function tagOf(html: string): Tag | null {
  const closing = /^<\/([a-z][a-z0-9]*)\s*>$/i.exec(html.trim());
  if (closing) return { name: closing[1]!.toLowerCase(), closes: true, attributes: {} };
  if (!/^<[a-z][^>]*>$/i.test(html.trim())) return null;
  let found: Tag | null = null;
  const parser = new Parser({
    onopentag(name, attributes) {
      found ??= { name, closes: false, attributes };
    },
  });
  parser.write(html);
  parser.end();
  return found;
}

const tags = new WeakMap<object, Tag | null>();
/** The same of a node, looked at once. */
function tagAt(one: RootContent): Tag | null {
  if (one.type !== 'html') return null;
  const known = tags.get(one);
  if (known !== undefined) return known;
  const tag = tagOf(one.value);
  tags.set(one, tag);
  return tag;
}

const INLINE_HTML: Record<string, Mark> = { u: 'underline', sub: 'sub', sup: 'sup', ins: 'underline' };

type Reading = { notes: Map<string, PhrasingContent[]>; definitions: Map<string, string>; count: number; deep: number };
/** Deeper than this nothing is read. */
const MOST_DEEP = 12;
/** So far ahead it is looked for where an element closes. */
const MOST_AHEAD = 2_000;

function address(url: string, web = false): string | undefined {
  const trimmed = plain(url).trim();
  const fine = web ? /^https?:\/\//i : /^(https?:\/\/|mailto:)/i;
  return fine.test(trimmed) && URL.canParse(trimmed) && trimmed.length <= 2_000 ? trimmed : undefined;
}

function phrasing(all: PhrasingContent[], reading: Reading, marks: Mark[] = [], href?: string): Inline[] {
  const out: Inline[] = [];
  const open: Mark[] = [];
  const say = (text: string, own: Mark[] = []) => {
    const said = plain(text);
    if (!said) return;
    const all = new Set([...marks, ...open, ...own]);
    const has = MARKS.filter((mark) => all.has(mark));
    out.push({ kind: 'text', text: said, ...(has.length ? { marks: has } : {}), ...(href ? { href } : {}) });
  };
  for (let n = 0; n < all.length; n += 1) {
    const one = all[n]!;
    switch (one.type) {
      case 'text':
        say(one.value.replace(/\n/g, ' '));
        break;
      case 'inlineCode':
        say(one.value, ['code']);
        break;
      case 'break':
        out.push({ kind: 'break' });
        break;
      case 'strong':
      case 'emphasis':
      case 'delete': {
        const mark: Mark = one.type === 'strong' ? 'bold' : one.type === 'emphasis' ? 'italic' : 'strike';
        out.push(...phrasing(one.children, reading, [...marks, ...open, mark], href));
        break;
      }
      case 'link':
        out.push(...phrasing(one.children, reading, [...marks, ...open], address(one.url) ?? href));
        break;
      case 'linkReference':
        out.push(
          ...phrasing(one.children, reading, [...marks, ...open], address(reading.definitions.get(one.identifier) ?? '') ?? href),
        );
        break;
      case 'image':
      case 'imageReference':
        say(one.alt ?? '');
        break;
      case 'footnoteReference': {
        const words = reading.notes.get(one.identifier);
        if (words) {
          // A note that is read in itself would never end.
          reading.notes.delete(one.identifier);
          out.push({ kind: 'note', words: phrasing(words, reading).filter((inner) => inner.kind !== 'note') });
          reading.notes.set(one.identifier, words);
        }
        break;
      }
      case 'html': {
        const tag = tagOf(one.value);
        if (tag?.name === 'br') out.push({ kind: 'break' });
        else if (tag?.name === 'data' && !tag.closes) {
          const end = all.findIndex((other, k) => k > n && other.type === 'html' && tagOf(other.value)?.name === 'data');
          const fallback = all
            .slice(n + 1, end < 0 ? n + 1 : end)
            .map((other) => ('value' in other ? other.value : ''))
            .join('');
          out.push({
            kind: 'chip',
            field: plain(tag.attributes.value ?? '').slice(0, 100) || 'first_name',
            fallback: plain(fallback).slice(0, 200),
          });
          if (end > n) n = end;
        } else if (tag && INLINE_HTML[tag.name]) {
          const mark = INLINE_HTML[tag.name]!;
          if (!tag.closes) open.push(mark);
          else if (open.includes(mark)) open.splice(open.lastIndexOf(mark), 1);
        }
        break;
      }
    }
  }
  return out;
}

/** Runs with the same marks and the same link are one. */
function joined(inline: Inline[]): Inline[] {
  const out: Inline[] = [];
  const like = (one: Inline) => JSON.stringify({ ...one, text: '' });
  for (const one of inline) {
    const last = out.at(-1);
    if (one.kind === 'text' && last?.kind === 'text' && like(one) === like(last))
      out[out.length - 1] = { ...last, text: last.text + one.text };
    else out.push(one);
  }
  return out;
}

/** A paragraph that is a picture alone, perhaps with a link around it. */
function pictureOf(all: PhrasingContent[]): Picture | null {
  const [one, more] = all.filter((node) => node.type !== 'text' || node.value.trim());
  if (!one || more) return null;
  if (one.type === 'link') {
    const inner = pictureOf(one.children);
    const href = address(one.url);
    return inner && { ...inner, ...(href ? { href } : {}) };
  }
  const src = one.type === 'image' ? address(one.url, true) : undefined;
  return src && one.type === 'image' ? { src, alt: plain(one.alt ?? '').slice(0, 1_000) } : null;
}

const buttonOf = (all: PhrasingContent[]): Node | null => {
  const [open, label, close] = all;
  if (all.length !== 3 || open?.type !== 'html' || label?.type !== 'text' || close?.type !== 'html') return null;
  const tag = tagOf(open.value);
  const href = tag?.name === 'a' && tag.attributes.class === 'button' ? address(tag.attributes.href ?? '') : undefined;
  return href ? { kind: 'button', label: plain(label.value).slice(0, 200), href } : null;
};

function lookOf(attributes: Record<string, string>): BlockLook | undefined {
  const colour = (name: string) => (/^#[0-9a-f]{6}$/.test(attributes[name] ?? '') ? attributes[name] : undefined);
  const one = <T extends string>(of: readonly T[], name: string) => of.find((value) => value === attributes[name]);
  const entries = Object.entries({
    align: one(ALIGNS, 'data-align'),
    colour: colour('data-colour'),
    ground: colour('data-ground'),
    width: one(WIDTHS, 'data-width'),
  }).filter(([, value]) => value);
  return entries.length ? (Object.fromEntries(entries) as BlockLook) : undefined;
}
const LOOKS = new Set(['heading', 'paragraph', 'pull quote', 'call-out', 'picture', 'button']);

/** Blocks one after another; those that stand between an element's two ends are within it. */
function blocks(all: RootContent[], reading: Reading): Node[] {
  const out: Node[] = [];
  if (reading.deep > MOST_DEEP) return out;
  reading.deep += 1;
  for (let n = 0; n < all.length && reading.count < MOST_NODES; n += 1) {
    const one = all[n]!;
    const tag = tagAt(one);
    if (one.type === 'html' && tag && !tag.closes) {
      reading.count += 1;
      const end = endOf(all, n, tag.name);
      const inner = end < 0 ? [] : all.slice(n + 1, end);
      const made = framed(tag, inner, reading);
      if (made) {
        out.push(...made);
        if (end > n) n = end;
        continue;
      }
    }
    out.push(...block(one, reading));
  }
  reading.deep -= 1;
  return out;
}

/** Where the element that opens here closes. */
function endOf(all: RootContent[], from: number, name: string): number {
  let open = 0;
  const most = Math.min(all.length, from + MOST_AHEAD);
  for (let n = from; n < most; n += 1) {
    const tag = tagAt(all[n]!);
    if (tag?.name !== name) continue;
    open += tag.closes ? -1 : 1;
    if (open === 0) return n;
  }
  return -1;
}

/** Those elements that we write ourselves, since Markdown has no sign for what they say. Null for any other. */
function framed({ name, attributes }: Tag, inner: RootContent[], reading: Reading): Node[] | null {
  const nodes = () => blocks(inner, reading);
  const kind = attributes.class ?? '';
  const first = (type: string) => nodes().find((node) => node.kind === type);
  if (name === 'aside') return [{ kind: 'call-out', nodes: nodes() }];
  if (name === 'figure') {
    const split = inner.findIndex((one) => one.type === 'html' && tagOf(one.value)?.name === 'figcaption');
    const beneath = split < 0 ? [] : inner.slice(split + 1, -1);
    const isCredit = (one: RootContent) => one.type === 'html' && LINE.exec(one.value.trim())?.[1] === 'credit';
    const words = blocks(
      beneath.filter((one) => !isCredit(one)),
      reading,
    );
    const credit = beneath
      .filter(isCredit)
      .map((one) => lineIn((one as Html).value))
      .join(' ')
      .slice(0, MOST_CREDIT);
    const caption = words.flatMap((node) => (node.kind === 'paragraph' ? node.inline : []));
    const body = blocks(split < 0 ? inner : inner.slice(0, split), reading);
    if (kind === 'pull') {
      const quote = body.find((node) => node.kind === 'quote');
      const said = quote?.kind === 'quote' ? quote.nodes.find((node) => node.kind === 'paragraph') : undefined;
      const by = caption.map((one) => (one.kind === 'text' ? one.text : '')).join('');
      return [{ kind: 'pull quote', inline: said?.kind === 'paragraph' ? said.inline : [], by: by.slice(0, 200) }];
    }
    const picture = body.find((node) => node.kind === 'picture');
    return picture?.kind === 'picture'
      ? [{ ...picture, ...(caption.length ? { caption } : {}), ...(credit ? { credit } : {}) }]
      : null;
  }
  if (name !== 'div') return null;
  switch (kind) {
    case 'columns': {
      const columns: Node[][] = [];
      for (let n = 0; n < inner.length; n += 1) {
        const end = endOf(inner, n, 'div');
        if (end <= n) continue;
        columns.push(blocks(inner.slice(n + 1, end), reading));
        n = end;
      }
      return columns.length > 1 ? [{ kind: 'columns', columns: columns.slice(0, MOST_COLUMNS) }] : columns.flat();
    }
    case 'gallery': {
      const pictures = nodes().flatMap((node) =>
        node.kind === 'picture' ? [{ src: node.src, alt: node.alt, ...(node.href ? { href: node.href } : {}) }] : [],
      );
      return pictures.length ? [{ kind: 'gallery', pictures: pictures.slice(0, 60) }] : [];
    }
    case 'look': {
      const look = lookOf(attributes);
      return nodes().map((node) => (look && LOOKS.has(node.kind) ? ({ ...node, look } as Node) : node));
    }
    case 'part':
      return /^[0-9a-f-]{36}$/.test(attributes['data-segment'] ?? '')
        ? [
            {
              kind: 'part',
              segmentId: attributes['data-segment']!,
              inside: attributes['data-inside'] !== 'false',
              nodes: nodes(),
            },
          ]
        : null;
    case 'card': {
      const said = inner.find((one) => one.type === 'paragraph');
      const link = said?.type === 'paragraph' ? said.children.find((one) => one.type === 'link') : undefined;
      const href = link?.type === 'link' ? address(link.url) : undefined;
      if (said?.type !== 'paragraph' || link?.type !== 'link' || !href) return first('picture') ? nodes() : null;
      const picture = link.children.find((one) => one.type === 'image');
      const words = (all: PhrasingContent[]) => plain(all.map((one) => (one.type === 'text' ? one.value : '')).join('')).trim();
      return [
        {
          kind: 'card',
          href,
          title: words(link.children).slice(0, 300),
          words: words(said.children).slice(0, 1_000),
          picture: (picture?.type === 'image' && address(picture.url, true)) || '',
        },
      ];
    }
    default:
      return null;
  }
}

function block(one: RootContent, reading: Reading): Node[] {
  reading.count += 1;
  if (reading.count > MOST_NODES) return [];
  const inner = (all: Nodes[]) => blocks(all as RootContent[], reading);
  switch (one.type) {
    case 'heading':
      return [{ kind: 'heading', level: one.depth > 2 ? 3 : one.depth, inline: joined(phrasing(one.children, reading)) } as Node];
    case 'paragraph': {
      const picture = pictureOf(one.children);
      if (picture) return [{ kind: 'picture', ...picture }];
      const button = buttonOf(one.children);
      if (button) return [button];
      const inline = joined(phrasing(one.children, reading));
      return inline.length ? [{ kind: 'paragraph', inline }] : [];
    }
    case 'list':
      return [{ kind: 'list', ordered: one.ordered === true, items: one.children.map((item) => inner(item.children)) }];
    case 'blockquote':
      return [{ kind: 'quote', nodes: inner(one.children) }];
    case 'code':
      return [{ kind: 'code', text: plain(one.value) }];
    case 'thematicBreak':
      return [{ kind: 'divider' }];
    case 'table':
      return [
        {
          kind: 'table',
          rows: one.children
            .map((row, n) => ({
              head: n === 0,
              cells: row.children.slice(0, 50).map((cell) => joined(phrasing(cell.children, reading))),
            }))
            // A head of nothing stands only where Markdown wants one.
            .filter((row) => !row.head || row.cells.some((cell) => cell.length)),
        },
      ];
    case 'html':
      return htmlBlock(one.value);
    default:
      return [];
  }
}

/** A line of its own that is no paragraph. */
const LINE = /^<p class="(subtitle|byline|credit)">[\s\S]*<\/p>$/;
/** What such a line says. */
const lineIn = (html: string): string =>
  fromHtml(html, 'https://nowhere.invalid/')
    .nodes.flatMap((node) => (node.kind === 'paragraph' ? node.inline : []))
    .map((one) => (one.kind === 'text' ? one.text : ' '))
    .join('');

/** HTML among Markdown: what we write ourselves, or what it says as nodes. */
function htmlBlock(html: string): Node[] {
  const tag = tagOf(/^<div[^>]*><\/div>$/i.test(html.trim()) ? html.trim().slice(0, -6) : html);
  const { attributes = {} } = tag ?? {};
  if (tag?.name === 'div' && attributes.class?.startsWith('space ')) {
    const size = SPACES.find((one) => attributes.class === `space ${one}`);
    return size ? [{ kind: 'spacer', size }] : [];
  }
  if (tag?.name === 'div' && attributes.class === 'latest')
    return [
      {
        kind: 'latest',
        most: Math.min(MOST_LATEST, Math.max(1, Number(attributes['data-most']) || 3)),
        words: attributes['data-words'] === 'true',
      },
    ];
  if (tag?.name === 'div' && attributes.class === 'sign-up') {
    const formId = attributes['data-form'] ?? '';
    return [{ kind: 'sign-up', formId: /^[0-9a-f-]{36}$/.test(formId) ? formId : null }];
  }
  const line = LINE.exec(html.trim());
  const kind = line?.[1];
  if (kind === 'subtitle' || kind === 'byline') {
    const text = lineIn(html).slice(0, 500);
    return text ? [{ kind, text }] : [];
  }
  return fromHtml(html, 'https://nowhere.invalid/').nodes;
}

const FRONT = ['title', 'subtitle', 'subject', 'preview', 'slug', 'description', 'canonical', 'author'] as const;

/** What stands between two lines of three dashes at the beginning, as far as it can be read. */
function frontOf(text: string): { front: Front; rest: string } {
  const match = /^\ufeff?---[ \t]*\r?\n([\s\S]*?)\r?\n---[ \t]*(?:\r?\n|$)/.exec(text);
  if (!match || match[1]!.length > 20_000) return { front: {}, rest: text };
  let read: unknown;
  try {
    read = parseYaml(match[1]!, { maxAliasCount: 10 });
  } catch {
    return { front: {}, rest: text };
  }
  if (!read || typeof read !== 'object' || Array.isArray(read)) return { front: {}, rest: text };
  const said = read as Record<string, unknown>;
  const front: Front = {};
  for (const name of FRONT) {
    const value = said[name];
    if (typeof value === 'string' || typeof value === 'number') front[name] = plain(String(value)).slice(0, 500);
  }
  const topics = said.topics ?? said.tags;
  if (Array.isArray(topics))
    front.topics = topics
      .filter((one) => typeof one === 'string')
      .map((one) => plain(one).slice(0, 60))
      .slice(0, 20);
  return { front, rest: text.slice(match[0].length) };
}

/**
 * A file of Markdown (CommonMark with the tables, strikes and footnotes of GFM) as a document, with what it says of itself before its words. HTML in it
 * becomes nodes; what we write ourselves (`renderMarkdown`) comes back as it was, but for HTML of one's own. Never throws.
 */
export function fromMarkdown(text: string): { document: Document; front: Front } {
  const { front, rest } = frontOf(text.slice(0, MOST));
  const tree = parse(rest, { extensions: [gfm()], mdastExtensions: [gfmFromMarkdown()] });
  const reading: Reading = { notes: new Map(), definitions: new Map(), count: 0, deep: 0 };
  for (const one of tree.children) {
    if (one.type === 'definition') reading.definitions.set(one.identifier, one.url);
    if (one.type === 'footnoteDefinition')
      reading.notes.set(
        one.identifier,
        one.children.flatMap((child) => (child.type === 'paragraph' ? child.children : [])),
      );
  }
  return { document: { version: 1, nodes: blocks(tree.children, reading) }, front };
}
