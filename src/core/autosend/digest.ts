import { type Document, type Node, rewritten, run } from '../writing/document';
import type { RuleSettings } from './rule';

/** A post of a blog as a letter takes it; `day` is spoken already. */
export type DigestPost = {
  title: string;
  link: string;
  summary: string;
  author: string;
  day: string;
  picture: string | null;
  document: Document;
};
/** What a letter of posts is made of: a post in the sense of layouts. */
export type Composed = {
  title: string;
  summary: string;
  link: string;
  picture: string | null;
  author: string;
  document: Document;
};

type Way = Pick<RuleSettings, 'holds' | 'invitation' | 'campaign'> & {
  /** A note before all else, as its writer typed it; '' for none. */
  intro: string;
  /** What "read on" says, in the newsletter's language. */
  readOn: string;
};

/** So many blocks are the first paragraphs of a post. */
const BEGINNING = 3;
/**
 * What a letter's posts may weigh together, in the letters of their nodes. Programs cut a mail off after 102 KB; HTML is about twice as much as what it says, and a
 * layout takes its part.
 */
export const MOST_WEIGHT = 38_000;
const weighs = (node: Node): number => JSON.stringify(node).length;

/** A link to a post with the marks by which a blog's own count of visits tells where somebody came from; other sites' links stay as they are. */
export function withMarks(href: string, campaign: string, host: string): string {
  if (!campaign || !URL.canParse(href)) return href;
  const url = new URL(href);
  if (url.host !== host || !/^https?:$/.test(url.protocol)) return href;
  for (const [name, value] of [
    ['utm_source', 'newsletter'],
    ['utm_medium', 'email'],
    ['utm_campaign', campaign],
  ] as const)
    if (!url.searchParams.has(name)) url.searchParams.set(name, value);
  return url.href;
}

const hostOf = (link: string): string => (URL.canParse(link) ? new URL(link).host : '');

/** All links within nodes to a host with its marks. */
const markedNodes = (nodes: Node[], campaign: string, host: string): Node[] =>
  campaign && host
    ? JSON.parse(JSON.stringify(nodes), (key, value) =>
        key === 'href' && typeof value === 'string' ? withMarks(value, campaign, host) : value,
      )
    : nodes;

/** A post's blocks as far as a letter takes them, and whether there is more. */
function taken(post: DigestPost, holds: RuleSettings['holds'], most: number): { nodes: Node[]; more: boolean } {
  const { nodes } = post.document;
  if (holds === 'summary' || nodes.length === 0)
    return {
      nodes: post.summary ? [{ kind: 'paragraph', inline: run(post.summary) }] : [],
      more: nodes.length > 0 || holds === 'summary',
    };
  const kept: Node[] = [];
  let weight = 0;
  let paragraphs = 0;
  for (const node of nodes) {
    weight += weighs(node);
    if (weight > most && kept.length > 0) return { nodes: kept, more: true };
    if (weight > most) return { nodes: post.summary ? [{ kind: 'paragraph', inline: run(post.summary) }] : [], more: true };
    kept.push(node);
    if (node.kind === 'paragraph') paragraphs += 1;
    if (holds === 'beginning' && paragraphs === BEGINNING) return { nodes: kept, more: kept.length < nodes.length };
  }
  return { nodes: kept, more: false };
}

/** Headings within a post stand below its own title where several posts are one letter. */
const lowered = (nodes: Node[]): Node[] => rewritten(nodes, (node) => [node.kind === 'heading' ? { ...node, level: 3 } : node]);

const linked = (words: string, href: string): Node => ({
  kind: 'paragraph',
  inline: [{ kind: 'text', text: words, marks: ['bold'], href }],
});

/**
 * Makes one letter of some posts, in the order given. A single one is itself; of several each has its title, who wrote it and when, and its words, with a line between
 * them. What is too much for a mail program is cut after a block, with a link to the rest.
 */
export function compose(posts: readonly DigestPost[], subject: string, way: Way): Composed {
  const marks = (post: DigestPost) => withMarks(post.link, way.campaign, hostOf(post.link));
  const room = MOST_WEIGHT / Math.max(1, posts.length);
  // What short posts leave over, the longer ones may take.
  const spare = posts.reduce(
    (sum, post) => sum + Math.max(0, room - post.document.nodes.reduce((all, node) => all + weighs(node), 0)),
    0,
  );
  const most = room + spare / Math.max(1, posts.length);
  const body = (post: DigestPost): Node[] => {
    const { nodes, more } = taken(post, way.holds, most);
    const link = marks(post);
    return [
      ...markedNodes(nodes, way.campaign, hostOf(post.link)),
      ...(more && link ? [linked(`${way.readOn} →`, link)] : []),
      ...(way.invitation && link ? [linked(way.invitation, link)] : []),
    ];
  };
  const intro: Node[] = way.intro.trim()
    ? [
        ...way.intro
          .split(/\n\s*\n/)
          .filter((part) => part.trim())
          .map((part): Node => ({ kind: 'paragraph', inline: run(part.trim().replace(/\s*\n\s*/g, ' ')) })),
        { kind: 'divider' },
      ]
    : [];
  const [only] = posts;
  if (posts.length === 1 && only)
    return {
      title: only.title,
      summary: only.summary,
      link: marks(only),
      picture: only.picture,
      author: only.author,
      document: { version: 1, nodes: [...intro, ...body(only)] },
    };
  return {
    title: subject,
    summary: posts.map((post) => post.title).join(' · '),
    link: '',
    picture: null,
    author: '',
    document: {
      version: 1,
      nodes: [
        ...intro,
        ...posts.flatMap((post, n): Node[] => {
          const said = [post.author, post.day].filter(Boolean).join(' · ');
          const link = marks(post);
          return [
            ...(n > 0 ? [{ kind: 'divider' } as Node] : []),
            { kind: 'heading', level: 2, inline: run(post.title, link || undefined) },
            ...(said ? [{ kind: 'byline', text: said } as Node] : []),
            ...(post.picture && way.holds !== 'whole'
              ? [{ kind: 'picture', src: post.picture, alt: '', ...(link ? { href: link } : {}) } as Node]
              : []),
            ...lowered(body(post)),
          ];
        }),
      ],
    },
  };
}
