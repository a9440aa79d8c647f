import { Feed } from 'feed';
import { formCss } from '@/core/forms/look';
import { shapeOf } from '@/core/forms/placement';
import { formHtml } from '@/core/forms/render';
import { directionOf } from '@/core/forms/words';
import { escapeHtml } from '@/core/html';
import { countingWords } from '@/core/readers/page-words';
import { siteCss } from '@/core/site/page-css';
import { type SiteWords, siteWords } from '@/core/site/site-words';
import { type Document, every, rewritten } from '@/core/writing/document';
import { withNewest } from '@/core/writing/layout';
import { webHtml } from '@/core/writing/to-web';
import type { Context, Newsletter } from '../context';
import { hostedForm, type PublicForm, publicFormById } from '../forms/forms';
import { stamp } from '../forms/stamp';
import { usualLayout } from '../mail/looks';
import { logoUrl } from '../newsletters/media';
import { publicNewsletter } from '../newsletters/newsletters';
import { readersShown } from '../readers/shown';
import { newestPosts, siteUrl, spokenDay } from '../sending/laid-out';
import { type PublicPost, postAt, publicPosts, topicsOf } from '../sending/pages';
import { publicPagePolicy } from '../site/policy';
import { answer, type PublicAnswer } from './request';
import { sharingPicture } from './sharing';

/*
 * A newsletter's own site: its page, its letters, each letter, its topics, its feeds. Plain pages in the look of its letters, without a script, and
 * without our origin, so that nothing in them can reach the desk.
 */

const ON_PAGE = 20;
const IN_FEED = 20;
/** How much of a letter for readers everybody sees, in blocks. */
const TASTE = 2;

type Site = { ctx: Context; newsletter: Newsletter; words: SiteWords; css: string };

/** GET /at/SLUG/…: what stands there, for anybody. */
export async function sitePage(ctx: Context, slug: string, path: string[], query: URLSearchParams): Promise<PublicAnswer> {
  const newsletter = await publicNewsletter(ctx, slug);
  if (!newsletter) return plainAnswer('There is no such newsletter.', 404);
  const { look } = await usualLayout(ctx.db, newsletter.id);
  const site: Site = { ctx, newsletter, words: siteWords(newsletter.language), css: siteCss(look, newsletter.accent) };
  const [first = '', second = ''] = path;
  if (path.length === 0) return home(site);
  if (path.length === 1 && first === 'letters') return list(site, { before: query.get('before') ?? undefined });
  if (path.length === 2 && first === 'topics') return list(site, { topic: second, before: query.get('before') ?? undefined });
  if (path.length === 1 && first === 'feed.xml') return feed(site, 'rss');
  if (path.length === 1 && first === 'feed.json') return feed(site, 'json');
  if (path.length === 2 && first === 'picture') return picture(site, second.replace(/\.png$/, ''));
  if (path.length === 1) return onePost(site, first);
  return missing(site);
}

const plainAnswer = (sentence: string, status: number): PublicAnswer =>
  answer(sentence, { status, headers: { 'content-type': 'text/plain; charset=utf-8', 'x-content-type-options': 'nosniff' } });

type View = {
  title: string;
  description: string;
  url: string;
  /** Elements of its own for the head. */
  head?: string;
  css?: string;
  main: string;
  status?: number;
  /** May others keep it for a minute? What has a form in it is made anew each time. */
  kept?: boolean;
};
const meta = (name: string, content: string) => (content ? `<meta property="${name}" content="${escapeHtml(content)}">` : '');

function page({ ctx, newsletter, words, css }: Site, view: View): PublicAnswer {
  const home = siteUrl(ctx, newsletter);
  const { name, language } = newsletter;
  const html = `<!doctype html>
<html lang="${escapeHtml(language)}" dir="${directionOf(language)}"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width,initial-scale=1">
<title>${escapeHtml(view.title)}</title><meta name="description" content="${escapeHtml(view.description)}">
${meta('og:site_name', name)}${meta('og:title', view.title)}${meta('og:description', view.description)}${meta('og:url', view.url)}
<link rel="alternate" type="application/rss+xml" title="${escapeHtml(name)}" href="${escapeHtml(`${home}/feed.xml`)}"><link rel="alternate" type="application/feed+json" title="${escapeHtml(name)}" href="${escapeHtml(`${home}/feed.json`)}">
${view.head ?? ''}<style>${css}${view.css ?? ''}</style></head><body>
<header><a class="name" href="${escapeHtml(home)}">${escapeHtml(name)}</a><nav><a href="${escapeHtml(`${home}/letters`)}">${escapeHtml(words.all)}</a></nav></header>
<main>${view.main}</main>
<footer><p>${escapeHtml(newsletter.postal_address.replace(/\r?\n/g, ', '))}</p><p>${escapeHtml(countingWords(newsletter))}</p><p><a href="${escapeHtml(`${home}/feed.xml`)}">${escapeHtml(words.feed)}</a></p></footer>
</body></html>`;
  return answer(html, {
    status: view.status ?? 200,
    headers: {
      'content-type': 'text/html; charset=utf-8',
      'cache-control': view.kept ? 'public, max-age=60' : 'no-store',
      'referrer-policy': 'strict-origin-when-cross-origin',
      'x-content-type-options': 'nosniff',
      'content-security-policy': publicPagePolicy(ctx.config),
    },
  });
}

const missing = (site: Site): PublicAnswer =>
  page(site, {
    title: site.newsletter.name,
    description: '',
    url: siteUrl(site.ctx, site.newsletter),
    head: '<meta name="robots" content="noindex">',
    main: `<h1>404</h1><p>${escapeHtml(site.words.notFound)}</p>`,
    status: 404,
  });

/** A form as it stands on a page, with the style that it needs. */
async function formOn({ ctx, newsletter }: Site, form: PublicForm | null, url: string): Promise<{ html: string; css: string }> {
  if (!form) return { html: '', css: '' };
  return {
    html: formHtml({
      form: form.definition,
      action: `${ctx.config.linkOrigin}/e/form/${form.publicId}`,
      page: url,
      lists: form.lists,
      readers: await readersShown(ctx, newsletter.id, form.definition.countFrom),
      stamp: stamp(ctx),
    }),
    css: formCss(form.definition.look, shapeOf(form.definition.placement.kind)),
  };
}

function line(site: Site, post: PublicPost): string {
  const { ctx, newsletter, words } = site;
  const day = spokenDay(post.at, newsletter.language, newsletter.time_zone);
  const said = [day, post.by && words.by.replace('NAME', post.by), post.forReaders && words.forReaders]
    .filter(Boolean)
    .join(' · ');
  return `<li><h2><a href="${escapeHtml(siteUrl(ctx, newsletter, post.slug))}">${escapeHtml(post.title)}</a></h2>${post.words ? `<p>${escapeHtml(post.words)}</p>` : ''}<p class="soft">${escapeHtml(said)}</p></li>`;
}

async function home(site: Site): Promise<PublicAnswer> {
  const { ctx, newsletter, words } = site;
  const url = siteUrl(ctx, newsletter);
  const [form, { posts, more }] = await Promise.all([
    hostedForm(ctx, newsletter).then((found) => formOn(site, found, url)),
    publicPosts(ctx, newsletter, { most: 5 }),
  ]);
  const letters = posts.length
    ? `<h2>${escapeHtml(words.letters)}</h2><ul class="posts">${posts.map((post) => line(site, post)).join('')}</ul>${more ? `<p><a href="${escapeHtml(`${url}/letters`)}">${escapeHtml(words.all)}</a></p>` : ''}`
    : '';
  return page(site, {
    title: newsletter.name,
    description: newsletter.description,
    url,
    head: `<link rel="canonical" href="${escapeHtml(url)}">${meta('og:type', 'website')}${meta('og:image', logoUrl(ctx, newsletter) ?? '')}`,
    css: form.css,
    main: `<h1>${escapeHtml(newsletter.name)}</h1>${newsletter.description ? `<p class="subtitle">${escapeHtml(newsletter.description)}</p>` : ''}${form.html}${letters}`,
  });
}

async function list(site: Site, { topic, before }: { topic?: string; before?: string }): Promise<PublicAnswer> {
  const { ctx, newsletter, words } = site;
  const [{ posts, more }, topics] = await Promise.all([
    publicPosts(ctx, newsletter, { topic, before, most: ON_PAGE }),
    topicsOf(ctx, newsletter),
  ]);
  if (topic && posts.length === 0 && !before) return missing(site);
  const path = topic ? `topics/${encodeURIComponent(topic)}` : 'letters';
  const url = siteUrl(ctx, newsletter, path);
  const tags = topics
    .map(
      (one) =>
        `<a href="${escapeHtml(siteUrl(ctx, newsletter, `topics/${encodeURIComponent(one.topic)}`))}">${escapeHtml(one.topic)}</a>`,
    )
    .join(' · ');
  return page(site, {
    title: `${topic ?? words.letters} · ${newsletter.name}`,
    description: newsletter.description,
    url,
    kept: true,
    head: `<link rel="canonical" href="${escapeHtml(url)}">${meta('og:type', 'website')}`,
    main: `<h1>${escapeHtml(topic ?? words.letters)}</h1>${!topic && tags ? `<p class="soft">${escapeHtml(words.topics)}: ${tags}</p>` : ''}${
      posts.length
        ? `<ul class="posts">${posts.map((post) => line(site, post)).join('')}</ul>`
        : `<p>${escapeHtml(words.none)}</p>`
    }${more ? `<p><a rel="next" href="${escapeHtml(`${url}?before=${encodeURIComponent(more)}`)}">${escapeHtml(words.older)}</a></p>` : ''}`,
  });
}

/** What everybody reads of a post: all of it, or its beginning. */
const openPart = (post: PublicPost): Document =>
  post.forReaders ? { version: 1, nodes: post.document.nodes.slice(0, TASTE) } : post.document;

async function onePost(site: Site, slug: string): Promise<PublicAnswer> {
  const { ctx, newsletter, words } = site;
  const found = await postAt(ctx, newsletter, slug);
  if (!found) return missing(site);
  if ('movedTo' in found)
    return answer('', {
      status: 301,
      headers: { location: siteUrl(ctx, newsletter, found.movedTo), 'cache-control': 'public, max-age=300' },
    });
  const { post } = found;
  const url = siteUrl(ctx, newsletter, post.slug);
  const day = spokenDay(post.at, newsletter.language, newsletter.time_zone);
  const own = await formOn(site, await hostedForm(ctx, newsletter), url);
  const { document, forms } = await onPage(site, post, url);
  const shown = post.picture ?? `${siteUrl(ctx, newsletter)}/picture/${post.slug}.png`;
  const about = {
    '@context': 'https://schema.org',
    '@type': 'Article',
    headline: post.title,
    description: post.words,
    datePublished: post.at.toISOString(),
    dateModified: post.changedAt.toISOString(),
    author: { '@type': 'Person', name: post.by || newsletter.name },
    publisher: { '@type': 'Organization', name: newsletter.name },
    image: shown,
    mainEntityOfPage: url,
    isAccessibleForFree: !post.forReaders,
  };
  const topics = post.topics
    .map(
      (topic) =>
        `<a href="${escapeHtml(siteUrl(ctx, newsletter, `topics/${encodeURIComponent(topic)}`))}">${escapeHtml(topic)}</a>`,
    )
    .join(' · ');
  const head = [
    `<link rel="canonical" href="${escapeHtml(post.canonical ?? url)}">`,
    meta('og:type', 'article'),
    meta('og:image', shown),
    meta('og:image:alt', post.pictureAlt || post.title),
    meta('article:published_time', post.at.toISOString()),
    meta('article:modified_time', post.changedAt.toISOString()),
    ...post.topics.map((topic) => meta('article:tag', topic)),
    `<script type="application/ld+json">${JSON.stringify(about).replace(/</g, '\\u003c')}</script>`,
  ].join('');
  const by = [post.by && words.by.replace('NAME', post.by), day, post.forReaders && words.forReaders].filter(Boolean).join(' · ');
  // What stands among its words already is not shown over them again.
  const among = [...every(post.document.nodes)].some((node) => node.kind === 'picture' && node.src === post.picture);
  const picture =
    post.picture && !among ? `<figure><img src="${escapeHtml(post.picture)}" alt="${escapeHtml(post.pictureAlt)}"></figure>` : '';
  return page(site, {
    title: `${post.title} · ${newsletter.name}`,
    description: post.words,
    url,
    head,
    css: forms.map((form) => form.css).join('') + own.css,
    main: `<article><h1>${escapeHtml(post.title)}</h1>${post.subtitle ? `<p class="subtitle">${escapeHtml(post.subtitle)}</p>` : ''}<p class="byline">${escapeHtml(by)}</p>${picture}${document}${
      post.forReaders ? `<p class="soft">${escapeHtml(words.restForReaders)}</p>` : ''
    }</article>${topics ? `<p class="soft">${topics}</p>` : ''}<section class="join"><h2>${escapeHtml(words.signUp.replace('NAME', newsletter.name))}</h2>${own.html}</section>`,
  });
}

/** A post's words as HTML, with the newest posts and the forms that stand in it. */
async function onPage(
  site: Site,
  post: PublicPost,
  url: string,
): Promise<{ document: string; forms: { html: string; css: string }[] }> {
  const { ctx, newsletter } = site;
  const { nodes } = openPart(post);
  const text = JSON.stringify(nodes);
  const newest = text.includes('"latest"') ? await newestPosts(ctx, ctx.db, newsletter, 10, post.id) : [];
  const wanted: (string | null)[] = [];
  const whole = rewritten(nodes, (node) => {
    if (node.kind === 'sign-up') wanted.push(node.formId);
    return withNewest([node], newest);
  });
  const forms = new Map<string | null, { html: string; css: string }>();
  for (const id of new Set(wanted)) {
    const form = id ? await publicFormById(ctx, newsletter, id) : await hostedForm(ctx, newsletter);
    forms.set(id, await formOn(site, form, url));
  }
  const html = webHtml({ version: 1, nodes: whole }, (id) => forms.get(id)?.html ?? '');
  return {
    document: html.replace(/<table>/g, '<div class="scroll"><table>').replace(/<\/table>/g, '</table></div>'),
    forms: [...forms.values()],
  };
}

/** What XML 1.0 has no place for. */
const NO_XML = /[\u0000-\u0008\u000b\u000c\u000e-\u001f\ufffe\uffff]/g;

async function feed(site: Site, kind: 'rss' | 'json'): Promise<PublicAnswer> {
  const { ctx, newsletter } = site;
  const url = siteUrl(ctx, newsletter);
  const { posts } = await publicPosts(ctx, newsletter, { most: IN_FEED });
  const made = new Feed({
    id: url,
    link: url,
    title: newsletter.name,
    description: newsletter.description || newsletter.name,
    language: newsletter.language,
    copyright: '',
    generator: 'Inkset',
    updated: posts[0]?.at ?? newsletter.created_at,
    feedLinks: { rss: `${url}/feed.xml`, json: `${url}/feed.json` },
  });
  for (const post of posts) {
    const link = siteUrl(ctx, newsletter, post.slug);
    const { document } = await onPage(site, post, link);
    made.addItem({
      // The page's own number and not its address, so that a post that moves is not new.
      id: `urn:uuid:${post.id}`,
      guid: `urn:uuid:${post.id}`,
      link,
      title: post.title,
      description: post.words,
      content: document,
      date: post.at,
      published: post.at,
      ...(post.by ? { author: [{ name: post.by }] } : {}),
      category: post.topics.map((name) => ({ name })),
    });
  }
  return answer((kind === 'rss' ? made.rss2() : made.json1()).replace(NO_XML, ''), {
    headers: {
      'content-type': kind === 'rss' ? 'application/rss+xml; charset=utf-8' : 'application/feed+json; charset=utf-8',
      'cache-control': 'public, max-age=300',
      'x-content-type-options': 'nosniff',
    },
  });
}

async function picture(site: Site, slug: string): Promise<PublicAnswer> {
  const { ctx, newsletter } = site;
  const found = await postAt(ctx, newsletter, slug);
  if (!found || 'movedTo' in found) return missing(site);
  const { look } = await usualLayout(ctx.db, newsletter.id);
  const bytes = await sharingPicture({
    title: found.post.title,
    name: newsletter.name,
    by: found.post.by,
    accent: look.colours.accent || newsletter.accent,
    paper: look.colours.page,
    ink: look.colours.ink,
  });
  return answer(bytes, {
    headers: { 'content-type': 'image/png', 'cache-control': 'public, max-age=86400', 'x-content-type-options': 'nosniff' },
  });
}
