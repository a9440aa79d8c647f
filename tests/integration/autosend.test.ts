import { createServer, type Server } from 'node:http';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { readApart } from '@/server/autosend/feeds';
import { createNewPosts, decideHeld, newPostsOf, pollNewPosts, switchNewPosts } from '@/server/autosend/new-posts';
import { lettersOf } from '@/server/sending/views';
import { DAY, MINUTE, TestWorld } from './world';

/** A blog in this process whose posts and manners the tests set. */
class Blog {
  posts: { guid: string; title: string; at: Date }[] = [];
  answer: 'feed' | 'away' | 'broken' | 'page' | 'gone' | 'busy' | 'moved' | 'moved for now' = 'feed';
  retryAfter = '';
  asked = 0;
  unchanged = 0;
  origin = '';
  #server: Server | null = null;
  async open(): Promise<this> {
    this.#server = createServer((request, response) => {
      this.asked += 1;
      const etag = `"${this.posts.length}-${this.posts.at(-1)?.guid ?? ''}"`;
      if (this.answer === 'away')
        return void response.writeHead(503, this.retryAfter ? { 'retry-after': this.retryAfter } : {}).end();
      if (this.answer === 'busy') return void response.writeHead(429, { 'retry-after': this.retryAfter }).end();
      if (this.answer === 'gone') return void response.writeHead(410).end();
      if (this.answer.startsWith('moved') && request.url !== '/new.xml')
        return void response.writeHead(this.answer === 'moved' ? 301 : 302, { location: '/new.xml' }).end();
      if (this.answer === 'page') return void response.end('<!doctype html><html></html>');
      if (this.answer === 'feed' && request.headers['if-none-match'] === etag) {
        this.unchanged += 1;
        return void response.writeHead(304).end();
      }
      const items = [...this.posts]
        .reverse()
        .map(
          (post) =>
            `<item><title>${post.title}</title><guid>${post.guid}</guid><link>/${post.guid}</link><pubDate>${post.at.toUTCString()}</pubDate><description>Words of ${post.title}</description></item>`,
        );
      const body = `<rss version="2.0"><channel><title>Lanternfish</title>${items.join('')}</channel></rss>`;
      response.writeHead(200, { etag }).end(this.answer === 'broken' ? body.slice(0, body.length / 2) : body);
    });
    await new Promise<void>((resolve) => this.#server!.listen(0, '127.0.0.1', resolve));
    this.origin = `http://127.0.0.1:${(this.#server.address() as { port: number }).port}`;
    return this;
  }
  close(): void {
    this.#server?.closeAllConnections();
    this.#server?.close();
  }
}

let world: TestWorld;
let blog: Blog;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
let rule: string;

beforeAll(async () => {
  world = await TestWorld.open();
  blog = await new Blog().open();
});
afterAll(async () => {
  blog.close();
  await world.close();
});
beforeEach(async () => {
  Object.assign(blog, { posts: [], answer: 'feed', asked: 0, unchanged: 0, retryAfter: '' });
  for (let n = 0; n < 3; n += 1)
    blog.posts.push({ guid: `old${n}`, title: `Old ${n}`, at: new Date(world.clock.now().getTime() - (30 - n) * DAY) });
  newsletter = await world.newsletter();
  const { senderId } = await world.sender(newsletter);
  ({ id: rule } = await createNewPosts(world.ctx, newsletter, {
    feedUrl: `${blog.origin}/feed.xml`,
    senderId,
    listId: await world.list(newsletter),
  }));
  await switchNewPosts(world.ctx, newsletter, rule, true);
});
const publish = (guid: string) => blog.posts.push({ guid, title: `Post ${guid}`, at: world.clock.now() });
const subjects = async () => (await lettersOf(world.ctx, newsletter)).letters.map((letter) => letter.subject);
const poll = async () => {
  world.clock.advance(2 * MINUTE);
  return pollNewPosts(world.ctx, rule);
};

describe('a feed that is made to keep us busy', () => {
  const item = (html: string) =>
    Buffer.from(
      `<rss version="2.0"><channel><title>T</title><item><title>t</title><description><![CDATA[${html}]]></description></item></channel></rss>`,
    );
  it.each<[string, Buffer]>([
    ['tags left open by the hundred thousand', item(`${'<b>'.repeat(150_000)}${'</i>'.repeat(120_000)}`)],
    ['paragraphs left open', item(`<p>${'<p>x'.repeat(200_000)}`)],
    ['cells and lists in each other', item('<table><tr><td><ul><li>'.repeat(40_000))],
    ['elements in elements of the feed itself', Buffer.from(`<rss version="2.0"><channel>${'<item>'.repeat(400_000)}`)],
    ['attributes without end', Buffer.from(`<rss version="2.0" ${'a="'.repeat(400_000)}`)],
    ['one long line', item('x'.repeat(4_900_000))],
  ])('%s: ends in a document or a sentence, and the rest goes on meanwhile', async (_, bytes) => {
    let beats = 0;
    const beat = setInterval(() => {
      beats += 1;
    }, 5);
    const ended = await readApart(bytes, 'application/rss+xml', 'https://lanternfish.example/feed').then(
      (feed) => typeof feed.title,
      (error) => error.sentence,
    );
    clearInterval(beat);
    expect(ended).toMatch(/^string$|too much to read|not a feed we can read/);
    expect(beats).toBeGreaterThan(0);
  });
});

describe('watching a blog', () => {
  it('never mails the back catalogue, mails each new post once, and asks only for what changed', async () => {
    await pollNewPosts(world.ctx, rule);
    expect(await subjects()).toEqual([]);
    expect(await poll()).toBe(0);
    publish('a');
    expect(await poll()).toBe(1);
    expect(await poll()).toBe(0);
    expect(await subjects()).toEqual(['Post a']);
    expect(blog.unchanged).toBe(2);
  });

  it('mails a post that appears between switching on and the first look', async () => {
    world.clock.advance(MINUTE);
    publish('quick');
    expect(await pollNewPosts(world.ctx, rule)).toBe(1);
  });

  it('is asked where it moved for good, comes again when it is told to, and is not asked any more where it is gone', async () => {
    const row = () => world.ctx.db.selectFrom('auto_sends').selectAll().where('id', '=', rule).executeTakeFirstOrThrow();
    const owner = () => world.mail.to(`${newsletter.owner}@postbird.example`).length;
    await pollNewPosts(world.ctx, rule);
    const { feed_url: before } = await row();
    blog.answer = 'moved for now';
    await poll();
    expect((await row()).feed_url).toBe(before);
    blog.answer = 'moved';
    publish('moved');
    expect(await poll()).toBe(1);
    expect((await row()).feed_url).toBe(`${blog.origin}/new.xml`);
    const waits = async () => ((await row()).next_poll_at!.getTime() - world.clock.now().getTime()) / MINUTE;
    blog.answer = 'busy';
    for (const [said, minutes] of [
      ['7200', 120],
      [new Date(world.clock.now().getTime() + 10 * 3_600_000).toUTCString(), 600],
      ['999999999', 1_440],
    ] as const) {
      blog.retryAfter = said;
      await world.ctx.db
        .updateTable('auto_sends')
        .set({ next_poll_at: world.clock.now(), failures: 0 })
        .where('id', '=', rule)
        .execute();
      await pollNewPosts(world.ctx, rule);
      expect(Math.round(await waits()), said).toBe(minutes);
    }
    expect(owner()).toBe(0);
    // A day of it is told once; and once more should it be silent again after it spoke.
    for (let n = 0; n < 3; n += 1) {
      world.clock.advance(DAY);
      await pollNewPosts(world.ctx, rule);
    }
    await world.work();
    expect(owner()).toBe(1);
    Object.assign(blog, { answer: 'feed', retryAfter: '' });
    world.clock.advance(DAY);
    await pollNewPosts(world.ctx, rule);
    expect(await row()).toMatchObject({ failing_since: null, told_at: null, fault: null });
    blog.answer = 'gone';
    // Killed at any statement, it is asked again or its owner is told: never neither.
    world.clock.advance(2 * MINUTE);
    for (let n = 0; n < 40 && (await row()).next_poll_at !== null; n += 1)
      await pollNewPosts(world.brokenAfter(n), rule).catch(() => undefined);
    expect(await row()).toMatchObject({ next_poll_at: null, fault: expect.stringContaining('gone for good') });
    await world.work();
    expect(owner()).toBe(2);
    const asked = blog.asked;
    world.clock.advance(2 * DAY);
    await world.work();
    expect(blog.asked).toBe(asked);
    // Switched on anew it is asked again.
    blog.answer = 'feed';
    await switchNewPosts(world.ctx, newsletter, rule, true);
    await pollNewPosts(world.ctx, rule);
    expect((await row()).fault).toBeNull();
  });

  it('two polls at once make one letter', async () => {
    await pollNewPosts(world.ctx, rule);
    publish('b');
    world.clock.advance(2 * MINUTE);
    await Promise.all([pollNewPosts(world.ctx, rule), pollNewPosts(world.ctx, rule), pollNewPosts(world.ctx, rule)]);
    expect(await subjects()).toEqual(['Post b']);
  });

  it('a feed that is away or broken loses nothing, says so, and is asked less and less', async () => {
    await pollNewPosts(world.ctx, rule);
    publish('c');
    blog.answer = 'away';
    await poll();
    expect((await newPostsOf(world.ctx, newsletter))[0]?.fault).toMatch(/answered with error 503/);
    blog.answer = 'broken';
    await poll();
    expect((await newPostsOf(world.ctx, newsletter))[0]?.fault).toMatch(/not a feed we can read/);
    const asked = blog.asked;
    world.clock.advance(MINUTE);
    await pollNewPosts(world.ctx, rule);
    expect(blog.asked).toBe(asked);
    blog.answer = 'feed';
    world.clock.advance(10 * MINUTE);
    expect(await pollNewPosts(world.ctx, rule)).toBe(1);
    expect((await newPostsOf(world.ctx, newsletter))[0]?.fault).toBeNull();
  });

  it.each([
    ['all', 7, 'mailed'],
    ['newest', 1, 'left out'],
    ['none', 0, 'left out'],
  ] as const)(
    'a crowd of new posts is held, said once to the owner, and goes as is decided: %s',
    async (which, letters, state) => {
      await pollNewPosts(world.ctx, rule);
      const mails = async () =>
        (await world.pool.query("select subject from mails where kind = 'alert' order by id")).rows.map((row) => row.subject);
      const before = (await mails()).length;
      for (let n = 0; n < 7; n += 1) {
        world.clock.advance(1000);
        publish(`crowd${n}`);
      }
      world.clock.advance(2 * MINUTE);
      await Promise.all([pollNewPosts(world.ctx, rule), pollNewPosts(world.ctx, rule)]);
      expect(await subjects()).toEqual([]);
      expect((await mails()).slice(before)).toEqual(['7 new posts came at once']);
      expect((await newPostsOf(world.ctx, newsletter))[0]?.held[0]).toBe('Post crowd6');
      publish('alone');
      expect(await poll()).toBe(1);
      // Pressed twice, it happens once.
      const made = await Promise.all([1, 2].map(() => decideHeld(world.ctx, newsletter, rule, { which })));
      expect(made.map((one) => one.letters).sort()).toEqual([0, letters]);
      expect(await subjects()).toHaveLength(1 + letters);
      if (which === 'newest') expect(await subjects()).toContain('Post crowd6');
      const view = (await newPostsOf(world.ctx, newsletter))[0]!;
      expect(view.held).toEqual([]);
      expect(view.items.find((item) => item.title === 'Post crowd0' || item.title === 'Post crowd3')?.state).toBe(state);
      await expect(decideHeld(world.ctx, await world.newsletter('Other'), rule, { which })).rejects.toMatchObject({
        code: 'not-found',
      });
    },
  );

  it('a site that moves from http to https, by its GUIDs or its links, mails nothing again', async () => {
    blog.posts.splice(0);
    blog.posts.push({ guid: 'http://lanternfish.example/?p=1', title: 'One', at: world.clock.now() });
    expect(await poll()).toBe(1);
    blog.posts[0]!.guid = 'https://lanternfish.example/?p=1';
    world.clock.advance(DAY);
    expect(await poll()).toBe(0);
    expect(await subjects()).toEqual(['One']);
  });

  it('a post that cannot be kept makes its feed wait and says so, and nothing is lost', async () => {
    await pollNewPosts(world.ctx, rule);
    await world.pool.query("alter table feed_items add constraint odd check (title <> 'Post cursed')");
    publish('before');
    publish('cursed');
    expect(await poll()).toBe(0);
    const [view] = await newPostsOf(world.ctx, newsletter);
    expect(view?.fault).toContain('on our side');
    expect(view!.nextPollAt!.getTime()).toBeGreaterThan(world.clock.now().getTime());
    await world.pool.query('alter table feed_items drop constraint odd');
    world.clock.advance(10 * MINUTE);
    expect(await pollNewPosts(world.ctx, rule)).toBe(2);
    expect((await newPostsOf(world.ctx, newsletter))[0]?.fault).toBeNull();
  });

  it('off and on again mails nothing of the pause', async () => {
    await pollNewPosts(world.ctx, rule);
    await switchNewPosts(world.ctx, newsletter, rule, false);
    publish('paused');
    world.clock.advance(DAY * 3);
    expect(await pollNewPosts(world.ctx, rule)).toBe(0);
    await switchNewPosts(world.ctx, newsletter, rule, true);
    expect(await pollNewPosts(world.ctx, rule)).toBe(0);
    publish('after');
    expect(await poll()).toBe(1);
    expect(await subjects()).toEqual(['Post after']);
  });

  it('refuses an address that is no feed, before anything is saved', async () => {
    const input = {
      feedUrl: `${blog.origin}/`,
      senderId: (await world.sender(newsletter, 'second.example')).senderId,
      listId: await world.list(newsletter),
    };
    blog.answer = 'page';
    await expect(createNewPosts(world.ctx, newsletter, input)).rejects.toMatchObject({
      fields: { feedUrl: expect.stringContaining('a web page, not a feed') },
    });
    await expect(createNewPosts(world.ctx, newsletter, { ...input, feedUrl: 'http://127.0.0.1:1/feed' })).rejects.toMatchObject({
      code: 'unreachable',
    });
    const stranger = await world.newsletter('A stranger');
    blog.answer = 'feed';
    await expect(createNewPosts(world.ctx, stranger, input)).rejects.toMatchObject({ fields: { senderId: 'Choose a sender.' } });
  });
});
