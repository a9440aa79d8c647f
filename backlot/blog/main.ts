/*
 * The writer's blog: pages, a feed with conditional GET and a hub that tells of new posts, a page to publish on, and a place for the code of a form. It knows nothing
 * of Inkset.
 * Its mood can be changed to see what happens: "away" answers 503 to the feed, "broken" cuts the feed off in the middle.
 */
import { asJson, notFound, serve } from '../shell/http';
import { knowLocalhost } from '../shell/localhost';
import { esc, worldPage } from '../shell/page';
import { place, portOf, readJson, worldNow, writeFileWhole } from '../shell/world';
import { type Post, rss } from './feed';
import { Hub, type Subscription } from './hub';

const file = place('blog.json');
type State = { posts: Post[]; code: string; told: Subscription[] };
const state: State = { posts: [], code: '', told: [], ...readJson<Partial<State>>(file, {}) };
const port = portOf('BACKLOT_BLOG_PORT');
const TITLE = 'Lanternfish';
let mood: 'normal' | 'away' | 'broken' = 'normal';
/** How often the feed was asked for, and how often "nothing new" (304) was the answer. */
const asked = { all: 0, unchanged: 0 };

const keep = () => writeFileWhole(file, JSON.stringify(state));
const hub = new Hub(state.told, '/feed.xml', keep, worldNow);
const slugOf = (title: string) =>
  title
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, '-')
    .replace(/^-|-$/g, '') || 'post';
const paragraphs = (text: string) =>
  /<[a-z]/i.test(text)
    ? text
    : text
        .trim()
        .split(/\n{2,}/)
        .map((p) => `<p>${esc(p.trim())}</p>`)
        .join('\n');

function publish(input: { title: string; summary: string; text: string; at: Date }): Post {
  let slug = slugOf(input.title);
  for (let n = 2; state.posts.some((post) => post.slug === slug); n += 1) slug = `${slugOf(input.title)}-${n}`;
  const post = { slug, title: input.title, summary: input.summary, html: paragraphs(input.text), at: input.at.toISOString() };
  state.posts.push(post);
  keep();
  if (mood === 'normal') void hub.tell((origin) => rss(state.posts, origin, TITLE).body);
  return post;
}

const blogPage = (title: string, body: string) =>
  worldPage(
    'The writer’s blog',
    title,
    `<p><a href="/">${TITLE}</a> · <a href="/feed.xml">Feed</a> · <a href="/publish">Publish</a> · <a href="/code">Form code</a></p>${body}`,
    '<meta name="theme-color" content="#0f4a5c"><meta name="description" content="Essays on deep-sea life"><link rel="alternate" type="application/rss+xml" href="/feed.xml">',
  );

knowLocalhost();
serve('blog', port, async (ask) => {
  if (ask.path === '/') {
    const posts = [...state.posts].sort((a, b) => b.at.localeCompare(a.at));
    const list = posts.map(
      (p) => `<li><a href="/posts/${p.slug}">${esc(p.title)}</a> <small>${new Date(p.at).toDateString()}</small></li>`,
    );
    return { body: blogPage(TITLE, `<h1>${TITLE}</h1><p>Essays on deep-sea life</p><ul>${list.join('')}</ul>${state.code}`) };
  }
  if (ask.path === '/feed.xml') {
    asked.all += 1;
    if (mood === 'away') return { status: 503, type: 'text/plain', body: 'Away' };
    // Under whichever name it is asked for.
    const feed = rss(state.posts, `http://${ask.headers.host ?? `127.0.0.1:${port}`}`, TITLE);
    if (mood === 'broken') return { type: 'application/rss+xml', body: feed.body.slice(0, 300) };
    const headers = { etag: feed.etag, 'last-modified': feed.lastModified };
    if (ask.headers['if-none-match'] === feed.etag) {
      asked.unchanged += 1;
      return { status: 304, headers };
    }
    return { type: 'application/rss+xml; charset=utf-8', body: feed.body, headers };
  }
  if (ask.path === '/hub' && ask.method === 'POST') return hub.wish(ask.fields);
  if (ask.path === '/asked') return asJson(asked);
  if (ask.path === '/mood' && ask.method === 'POST') {
    const wanted = ask.fields.get('mood');
    if (wanted === 'normal' || wanted === 'away' || wanted === 'broken') mood = wanted;
    return { seeOther: '/publish' };
  }
  if (ask.path === '/publish') {
    if (ask.method === 'POST') {
      const title = (ask.fields.get('title') ?? '').trim();
      if (!title) return { status: 422, body: blogPage('Publish', '<p class="fail">A post needs a title.</p>') };
      const post = publish({
        title,
        summary: ask.fields.get('summary') ?? '',
        text: ask.fields.get('text') ?? '',
        at: await worldNow(),
      });
      return { seeOther: `/posts/${post.slug}` };
    }
    const moods = ['normal', 'away', 'broken'].map((m) => `<button name="mood" value="${m}">${m}</button>`).join(' ');
    return {
      body: blogPage(
        'Publish',
        `<h1>Publish a post</h1><form method="post"><label>Title <input name="title" size="60"></label><label>Summary <input name="summary" size="60"></label><label>Text (empty lines between paragraphs, or HTML) <textarea name="text" rows="14"></textarea></label><button>Publish</button></form><h2>Mood of the feed</h2><p>It is <b>${mood}</b>.</p><form method="post" action="/mood">${moods}</form><h2>Its hub</h2><p>${await hub.said()}</p>`,
      ),
    };
  }
  if (ask.path === '/code') {
    if (ask.method === 'POST') {
      state.code = ask.fields.get('code') ?? '';
      keep();
      return { seeOther: '/' };
    }
    return {
      body: blogPage(
        'Form code',
        `<h1>Form code</h1><p>What is pasted here stands at the end of every page.</p><form method="post"><textarea name="code" rows="8">${esc(state.code)}</textarea><p><button>Save</button></p></form>`,
      ),
    };
  }
  if (ask.path === '/api/posts' && ask.method === 'GET') return asJson(state.posts);
  if (ask.path === '/api/posts' && ask.method === 'PUT') {
    state.posts = JSON.parse(ask.body) as Post[];
    keep();
    return asJson({ posts: state.posts.length });
  }
  const slug = /^\/posts\/([a-z0-9-]+)$/.exec(ask.path)?.[1];
  const post = state.posts.find((p) => p.slug === slug);
  if (!post) return notFound;
  return {
    body: blogPage(
      post.title,
      `<article><h1>${esc(post.title)}</h1><p><i>${esc(post.summary)}</i></p>${post.html}</article>${state.code}`,
    ),
  };
});
