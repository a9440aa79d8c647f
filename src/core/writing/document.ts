import Joi from 'joi';

/**
 * What is written, as a closed set of nodes: no HTML stands in it, so nothing from outside can bring any. The version says which set; a node of a
 * later one is kept as it is and shown as nothing.
 */
export type Document = { version: 1; nodes: Node[] };

export type Mark = 'bold' | 'italic' | 'underline' | 'strike' | 'code' | 'sub' | 'sup';
/** A run of text, a break, or a merge chip that is filled for each reader. Links are http(s) or mailto. */
export type Inline =
  | { kind: 'text'; text: string; marks?: Mark[]; href?: string }
  | { kind: 'break' }
  | { kind: 'chip'; field: string; fallback: string };

export type Node =
  | { kind: 'heading'; level: 1 | 2 | 3; inline: Inline[] }
  | { kind: 'subtitle'; text: string }
  | { kind: 'paragraph'; inline: Inline[] }
  | { kind: 'list'; ordered: boolean; items: Node[][] }
  | { kind: 'quote'; nodes: Node[] }
  | { kind: 'code'; text: string }
  | { kind: 'table'; rows: { head: boolean; cells: Inline[][] }[] }
  | { kind: 'picture'; src: string; alt: string; href?: string; caption?: Inline[] }
  | { kind: 'button'; label: string; href: string }
  | { kind: 'divider' };

/** A node of a layout: fixed, or a place that the post fills. */
export type LayoutNode =
  | Node
  | { kind: 'post'; part: 'title' | 'subtitle' | 'picture' | 'summary' | 'body' }
  | { kind: 'post'; part: 'link'; label: string };
export type Layout = { version: 1; nodes: LayoutNode[] };

/** A post as a layout needs it. */
export type Post = { title: string; subtitle: string; link: string | null; picture: string | null; document: Document };

/** The layout new posts start with: the whole post, and a way back that invites comments. */
export const STARTING_LAYOUT: Layout = {
  version: 1,
  nodes: [
    { kind: 'post', part: 'title' },
    { kind: 'post', part: 'picture' },
    { kind: 'post', part: 'body' },
    { kind: 'post', part: 'link', label: 'Read it on the site and say what you think' },
  ],
};

const href = Joi.string()
  .max(2_000)
  .pattern(/^(https?:|mailto:)/i);
const inline = Joi.array()
  .items(
    Joi.object({
      kind: Joi.valid('text').required(),
      text: Joi.string().allow('').max(100_000).required(),
      marks: Joi.array().items(Joi.valid('bold', 'italic', 'underline', 'strike', 'code', 'sub', 'sup')),
      href,
    }),
    Joi.object({ kind: Joi.valid('break').required() }),
    Joi.object({
      kind: Joi.valid('chip').required(),
      field: Joi.string().max(100).required(),
      fallback: Joi.string().allow('').max(200).required(),
    }),
  )
  .max(5_000);
const nodes = Joi.array().items(Joi.link('#node')).max(5_000);
const node: Joi.Schema = Joi.alternatives(
  Joi.object({ kind: Joi.valid('heading').required(), level: Joi.valid(1, 2, 3).required(), inline: inline.required() }),
  Joi.object({ kind: Joi.valid('subtitle').required(), text: Joi.string().max(1_000).required() }),
  Joi.object({ kind: Joi.valid('paragraph').required(), inline: inline.required() }),
  Joi.object({
    kind: Joi.valid('list').required(),
    ordered: Joi.boolean().required(),
    items: Joi.array().items(nodes).max(2_000).required(),
  }),
  Joi.object({ kind: Joi.valid('quote').required(), nodes: nodes.required() }),
  Joi.object({ kind: Joi.valid('code').required(), text: Joi.string().allow('').max(100_000).required() }),
  Joi.object({
    kind: Joi.valid('table').required(),
    rows: Joi.array()
      .items(Joi.object({ head: Joi.boolean().required(), cells: Joi.array().items(inline).max(50).required() }))
      .max(1_000)
      .required(),
  }),
  Joi.object({
    kind: Joi.valid('picture').required(),
    src: href.required(),
    alt: Joi.string().allow('').max(1_000).required(),
    href,
    caption: inline,
  }),
  Joi.object({ kind: Joi.valid('button').required(), label: Joi.string().max(200).required(), href: href.required() }),
  Joi.object({ kind: Joi.valid('divider').required() }),
).id('node');
const place = Joi.alternatives(
  Joi.object({
    kind: Joi.valid('post').required(),
    part: Joi.valid('title', 'subtitle', 'picture', 'summary', 'body').required(),
  }),
  Joi.object({
    kind: Joi.valid('post').required(),
    part: Joi.valid('link').required(),
    label: Joi.string().trim().max(120).required(),
  }),
);

/** Checks a document from outside; for its test and for whatever writes one. */
export const documentSchema = Joi.object<Document>({
  version: Joi.valid(1).required(),
  nodes: Joi.array().items(node).max(5_000).required(),
});
export const layoutSchema = Joi.object<Layout>({
  version: Joi.valid(1).required(),
  nodes: Joi.array().items(place, node).min(1).max(50).required(),
});

/** Text as one run, or none. */
export const run = (text: string, href?: string): Inline[] => (text ? [{ kind: 'text', text, ...(href ? { href } : {}) }] : []);

/** Fills a layout with a post. Parts that the post does not have (no picture, no body) leave no trace. */
export function bind(layout: Layout, post: Post): Document {
  return { version: 1, nodes: layout.nodes.flatMap((node) => (node.kind === 'post' ? placed(node, post) : [node])) };
}

function placed(place: Extract<LayoutNode, { kind: 'post' }>, post: Post): Node[] {
  const link = post.link ?? undefined;
  switch (place.part) {
    case 'title':
      return [{ kind: 'heading', level: 1, inline: run(post.title, link) }];
    case 'subtitle':
      return post.subtitle ? [{ kind: 'subtitle', text: post.subtitle }] : [];
    case 'picture':
      return post.picture ? [{ kind: 'picture', src: post.picture, alt: '', ...(link ? { href: link } : {}) }] : [];
    case 'summary':
      return post.subtitle ? [{ kind: 'paragraph', inline: run(post.subtitle) }] : [];
    case 'link':
      return link ? [{ kind: 'button', label: place.label, href: link }] : [];
    case 'body':
      if (post.document.nodes.length) return post.document.nodes;
      return post.subtitle ? [{ kind: 'paragraph', inline: run(post.subtitle) }] : [];
  }
}

/** The merge chips of a document, each field once. */
export function chipsIn(document: Document): { field: string; fallback: string }[] {
  const found = new Map<string, string>();
  const inlines = (all: Inline[]) => {
    for (const one of all) if (one.kind === 'chip' && !found.has(one.field)) found.set(one.field, one.fallback);
  };
  const walk = (all: Node[]) => {
    for (const one of all) {
      if ('inline' in one) inlines(one.inline);
      if (one.kind === 'list') one.items.forEach(walk);
      if (one.kind === 'quote') walk(one.nodes);
      if (one.kind === 'table') for (const row of one.rows) row.cells.forEach(inlines);
      if (one.kind === 'picture') inlines(one.caption ?? []);
    }
  };
  walk(document.nodes);
  return [...found].map(([field, fallback]) => ({ field, fallback }));
}
