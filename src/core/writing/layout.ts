import { type Document, type Node, run } from './document';
import { type Look, STARTING_LOOK } from './look';

/**
 * A layout: how letters look, and what of a post stands in one. It is kept once and used by posts, auto-sends, and the mails that confirm and welcome.
 * Its nodes are fixed, or places that the post fills.
 */
export type Layout = { version: 1; look: Look; nodes: LayoutNode[] };
export type PostPart = 'title' | 'subtitle' | 'picture' | 'summary' | 'body';
export type LayoutNode =
  | Node
  | { kind: 'post'; part: PostPart }
  | { kind: 'post'; part: 'link'; label: string }
  | { kind: 'post'; part: 'byline'; author: boolean; day: boolean };

/** A post as a layout needs it. `subtitle` is its writer's, `summary` a feed's; `day` is spoken already; what a post has not is ''. */
export type Post = {
  title: string;
  subtitle: string;
  summary: string;
  link: string | null;
  picture: string | null;
  author: string;
  day: string;
  document: Document;
};

/** The layout a newsletter starts with: the whole post, and a way back that invites comments. */
export const STARTING_LAYOUT: Layout = {
  version: 1,
  look: STARTING_LOOK,
  nodes: [
    { kind: 'post', part: 'title' },
    { kind: 'post', part: 'subtitle' },
    { kind: 'post', part: 'picture' },
    { kind: 'post', part: 'body' },
    { kind: 'post', part: 'link', label: 'Read it on the site and say what you think' },
  ],
};

/** Fills a layout with a post. Parts that the post does not have (no picture, no body) leave no trace. */
export function bind(layout: Layout, post: Post): Document {
  return { version: 1, nodes: layout.nodes.flatMap((node) => (node.kind === 'post' ? placed(node, post) : [node])) };
}

function placed(place: Extract<LayoutNode, { kind: 'post' }>, post: Post): Node[] {
  const link = post.link ?? undefined;
  switch (place.part) {
    case 'title':
      return post.title ? [{ kind: 'heading', level: 1, inline: run(post.title, link) }] : [];
    case 'subtitle':
      return post.subtitle ? [{ kind: 'subtitle', text: post.subtitle }] : [];
    case 'byline': {
      const text = [place.author && post.author, place.day && post.day].filter(Boolean).join(' · ');
      return text ? [{ kind: 'byline', text }] : [];
    }
    case 'picture':
      return post.picture ? [{ kind: 'picture', src: post.picture, alt: '', ...(link ? { href: link } : {}) }] : [];
    case 'summary': {
      const words = post.summary || post.subtitle;
      return words ? [{ kind: 'paragraph', inline: run(words) }] : [];
    }
    case 'link':
      return link && place.label.trim() ? [{ kind: 'button', label: place.label.trim(), href: link }] : [];
    case 'body':
      if (post.document.nodes.length) return post.document.nodes;
      return post.summary ? [{ kind: 'paragraph', inline: run(post.summary) }] : [];
  }
}

/** A newest post, as a list of them shows it. */
export type Newest = { title: string; words: string; link: string };

/** Puts in what stands elsewhere: the newest posts, where a document wants them. */
export const withNewest = (nodes: Node[], newest: Newest[]): Node[] =>
  nodes.flatMap((node): Node[] => {
    if (node.kind !== 'latest') return [node];
    return newest
      .slice(0, node.most)
      .flatMap(({ title, words, link }): Node[] => [
        { kind: 'heading', level: 3, inline: run(title, link) },
        ...(node.words && words ? [{ kind: 'paragraph', inline: run(words) } as Node] : []),
      ]);
  });
