import Joi from 'joi';

/** A letter's body as blocks. `html` strings hold inline HTML that was sanitised when it came in. */
export type Block =
  | { kind: 'heading'; text: string; href?: string }
  | { kind: 'subtitle'; text: string }
  | { kind: 'text'; html: string }
  | { kind: 'picture'; src: string; alt: string; href?: string }
  | { kind: 'button'; label: string; href: string }
  | { kind: 'divider' };

export type Document = { blocks: Block[] };

/** A block of a layout: either fixed, or a place that the post fills. */
export type LayoutBlock =
  | Block
  | { kind: 'post'; part: 'title' | 'picture' | 'summary' | 'body' }
  | { kind: 'post'; part: 'link'; label: string };
export type Layout = { blocks: LayoutBlock[] };

/** A post as a feed gave it, already sanitised. */
export type Post = { title: string; link: string; summary: string; html: string; picture: string | null };

/** The layout new posts start with: the whole post, and a way back that invites comments. */
export const STARTING_LAYOUT: Layout = {
  blocks: [
    { kind: 'post', part: 'title' },
    { kind: 'post', part: 'picture' },
    { kind: 'post', part: 'body' },
    { kind: 'post', part: 'link', label: 'Read it on the site and say what you think' },
  ],
};

export const layoutSchema = Joi.object<Layout>({
  blocks: Joi.array()
    .items(
      Joi.object({ kind: 'post', part: Joi.string().valid('title', 'picture', 'summary', 'body').required() }),
      Joi.object({ kind: 'post', part: 'link', label: Joi.string().trim().max(120).required() }),
      Joi.object({ kind: 'text', html: Joi.string().max(20_000).required() }),
      Joi.object({ kind: 'divider' }),
    )
    .min(1)
    .max(50)
    .required(),
});

/** Fills a layout with a post. Parts that the post does not have (no picture, no body) leave no trace. */
export function bind(layout: Layout, post: Post): Document {
  const blocks = layout.blocks.flatMap((block): Block[] => {
    if (block.kind !== 'post') return [block];
    if (block.part === 'title') return [{ kind: 'heading', text: post.title, href: post.link }];
    if (block.part === 'picture') return post.picture ? [{ kind: 'picture', src: post.picture, alt: '', href: post.link }] : [];
    if (block.part === 'summary') return post.summary ? [{ kind: 'text', html: post.summary }] : [];
    if (block.part === 'link') return [{ kind: 'button', label: block.label, href: post.link }];
    const html = post.html || post.summary;
    return html ? [{ kind: 'text', html }] : [];
  });
  return { blocks };
}
