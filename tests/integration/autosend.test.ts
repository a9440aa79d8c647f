import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { usualSettings } from '@/core/autosend/rule';
import { pastPosts, rulesOf } from '@/server/autosend/coming';
import { readApart } from '@/server/autosend/feeds';
import { asClaimed, pollFeed } from '@/server/autosend/polling';
import { addFeed, changeRule, createRule, decideHeld, switchRule } from '@/server/autosend/rules';
import { letJoin, runRule } from '@/server/autosend/runs';
import { startLetter } from '@/server/sending/start';
import { lettersOf } from '@/server/sending/views';
import { Blog } from './blog';
import { DAY, MINUTE, TestWorld } from './world';

let world: TestWorld;
let blog: Blog;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
let rule: string;
let feed: string;

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
  ({ id: rule } = await createRule(world.ctx, newsletter, {
    feedUrls: [`${blog.origin}/feed.xml`],
    senderId,
    listId: await world.list(newsletter),
  }));
  const view = await ruleNow();
  const seen = {
    name: view.name,
    settings: view.settings,
    audience: view.audience,
    senderId,
    layoutId: view.layout.id,
    intro: '',
  };
  await changeRule(world.ctx, newsletter, rule, {
    ...seen,
    settings: { ...usualSettings('Europe/Lisbon'), quietMinutes: 0 },
    seen,
  });
  feed = view.feeds[0]!.id;
  await switchRule(world.ctx, newsletter, rule, true);
});
const ruleNow = async () => (await rulesOf(world.ctx, newsletter))[0]!;
const publish = (guid: string) => blog.posts.push({ guid, title: `Post ${guid}`, at: world.clock.now() });
const subjects = async () => (await lettersOf(world.ctx, newsletter)).letters.map((letter) => letter.subject);
const row = () => world.ctx.db.selectFrom('feeds').selectAll().where('id', '=', feed).executeTakeFirstOrThrow();
/** Reads the feed if it is due, and does what the rule then has to do; each letter begins at once, as the worker would have it. Answers how many letters there are more. */
const look = async (ctx = world.ctx) => {
  const before = (await subjects()).length;
  await pollFeed(ctx, feed);
  for (let n = 0; n < 12; n += 1) {
    await runRule(ctx, rule);
    for (const { id } of await world.ctx.db
      .selectFrom('letters')
      .select('id')
      .where('state', 'in', ['scheduled', 'starting'])
      .where('newsletter_id', '=', newsletter.id)
      .execute()) {
      await letJoin(world.ctx, id);
      await startLetter(world.ctx, id);
    }
  }
  return (await subjects()).length - before;
};
const poll = async () => {
  world.clock.advance(7 * MINUTE);
  return look();
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
    // Whoever stands in the way of everything else for as long as this takes is found, and not who is done at once.
    const began = performance.now();
    let last = began;
    let longest = 0;
    const beat = () => {
      longest = Math.max(longest, performance.now() - last);
      last = performance.now();
    };
    const beats = setInterval(beat, 5);
    const ended = await readApart(bytes, 'application/rss+xml', 'https://lanternfish.example/feed').then(
      (feed) => typeof feed.title,
      (error) => error.sentence,
    );
    clearInterval(beats);
    beat();
    expect(ended).toMatch(/^string$|too much to read|not a feed we can read/);
    expect(longest).toBeLessThan(Math.max(1_000, (performance.now() - began) / 2));
  });
});

describe('watching a blog', () => {
  it('never mails the back catalogue, mails each new post once, and asks only for what changed', async () => {
    await look();
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
    expect(await look()).toBe(1);
  });

  it('is asked where it moved for good, comes again when it is told to, and is not asked any more where it is gone', async () => {
    // What is said of the feed itself; that no post came for long is said besides.
    const owner = () =>
      world.mail.to(`${newsletter.owner}@postbird.example`).filter((mail) => /^Subject:.*(feed of)/m.test(mail.source)).length;
    await look();
    const { url: before } = await row();
    blog.answer = 'moved for now';
    await poll();
    expect((await row()).url).toBe(before);
    blog.answer = 'moved';
    publish('moved');
    expect(await poll()).toBe(1);
    expect((await row()).url).toBe(`${blog.origin}/new.xml`);
    const waits = async () => ((await row()).next_poll_at!.getTime() - world.clock.now().getTime()) / MINUTE;
    blog.answer = 'busy';
    for (const [said, minutes] of [
      ['7200', 120],
      [new Date(world.clock.now().getTime() + 10 * 3_600_000).toUTCString(), 600],
      ['999999999', 1_440],
    ] as const) {
      blog.retryAfter = said;
      await world.ctx.db
        .updateTable('feeds')
        .set({ next_poll_at: world.clock.now(), failures: 0 })
        .where('id', '=', feed)
        .execute();
      await look();
      expect(Math.round(await waits()), said).toBe(minutes);
    }
    expect(owner()).toBe(0);
    // A day of it is told once; and once more should it be silent again after it spoke.
    for (let n = 0; n < 3; n += 1) {
      world.clock.advance(DAY);
      await look();
    }
    await world.work();
    expect(owner()).toBe(1);
    Object.assign(blog, { answer: 'feed', retryAfter: '' });
    world.clock.advance(DAY);
    await look();
    expect(await row()).toMatchObject({ failing_since: null, told_at: null, fault: null });
    blog.answer = 'gone';
    // Killed at any statement, it is asked again or its owner is told: never neither.
    world.clock.advance(7 * MINUTE);
    for (let n = 0; n < 40 && (await row()).next_poll_at !== null; n += 1) {
      // Who died had it for two minutes.
      world.clock.advance(3 * MINUTE);
      await pollFeed(world.brokenAfter(n), feed).catch(() => undefined);
    }
    expect(await row()).toMatchObject({ next_poll_at: null, fault: expect.stringContaining('gone for good') });
    await world.work();
    expect(owner()).toBe(2);
    const asked = blog.asked;
    world.clock.advance(2 * DAY);
    await world.work();
    expect(blog.asked).toBe(asked);
    // Switched on anew it is asked again.
    blog.answer = 'feed';
    await switchRule(world.ctx, newsletter, rule, false);
    await switchRule(world.ctx, newsletter, rule, true);
    await look();
    expect((await row()).fault).toBeNull();
  });

  it('two polls at once make one letter', async () => {
    await look();
    publish('b');
    world.clock.advance(7 * MINUTE);
    await Promise.all([look(), look(), look()]);
    expect(await subjects()).toEqual(['Post b']);
  });

  it('a reading that takes longer than its claim counts, whoever claims it meanwhile; of two that are done, the first', async () => {
    await look();
    const once = (work: () => Promise<unknown>) => {
      blog.meanwhile = async () => {
        blog.meanwhile = null;
        world.clock.advance(3 * MINUTE);
        await work();
      };
    };
    // Somebody else has it, and never ends.
    publish('slow');
    once(() => world.ctx.db.updateTable('feeds').set(asClaimed(world.clock.now())).where('id', '=', feed).execute());
    expect(await poll()).toBe(1);
    // Another is done first.
    publish('twice');
    once(() => pollFeed(world.ctx, feed));
    expect(await poll()).toBe(1);
    // Asked for anew meanwhile, the old answer does not count, and a new one is fetched at once.
    publish('anew');
    once(() => addFeed(world.ctx, newsletter, rule, { url: '' }));
    world.clock.advance(7 * MINUTE);
    expect(await pollFeed(world.ctx, feed)).toBe(0);
    expect((await row()).next_poll_at).toEqual(world.clock.now());
    expect(await look()).toBe(1);
    // A worker whose reading is late does not begin it once more beside itself.
    publish('late');
    let until: Date | null = null;
    once(async () => {
      await world.feeds.look();
      until = (await row()).next_poll_at;
    });
    world.clock.advance(7 * MINUTE);
    const begun = world.clock.now().getTime();
    await world.feeds.settle();
    expect(until).toEqual(new Date(begun + 2 * MINUTE));
    await look();
    expect((await subjects()).toSorted()).toEqual(['Post anew', 'Post late', 'Post slow', 'Post twice']);
  });

  it('a feed that is away or broken loses nothing, says so, and is asked less and less', async () => {
    await look();
    publish('c');
    blog.answer = 'away';
    await poll();
    expect((await row()).fault).toMatch(/answered with error 503/);
    blog.answer = 'broken';
    await poll();
    expect((await row()).fault).toMatch(/not a feed we can read/);
    const asked = blog.asked;
    world.clock.advance(MINUTE);
    await look();
    expect(blog.asked).toBe(asked);
    blog.answer = 'feed';
    world.clock.advance(10 * MINUTE);
    expect(await look()).toBe(1);
    expect((await row()).fault).toBeNull();
  });

  it('a feed that breaks off gives what stands whole in it, says so, and takes nothing down', async () => {
    await look();
    publish('d');
    publish('e');
    blog.answer = 'cut';
    // Newest first: what is cut off is the oldest.
    expect(await poll()).toBe(2);
    expect(await row()).toMatchObject({ fault: null, cut: true, etag: null });
    const { rows } = await world.pool.query<{ n: number }>(
      'select count(*)::int as n from feed_items where feed_id = $1 and gone_at is not null',
      [feed],
    );
    expect(rows[0]!.n).toBe(0);
    blog.answer = 'feed';
    expect(await poll()).toBe(0);
    expect(await row()).toMatchObject({ cut: false, etag: expect.any(String) });
  });

  it.each([
    ['all', 7, /^sent/],
    ['together', 1, /^sent/],
    ['newest', 1, /was left out/],
    ['none', 0, /was left out/],
  ] as const)('a crowd of new posts is held, said once to the owner, and goes as is decided: %s', async (which, letters, why) => {
    await look();
    const mails = async () =>
      (await world.pool.query("select subject from mails where kind = 'alert' order by id")).rows.map((row) => row.subject);
    const before = (await mails()).length;
    for (let n = 0; n < 7; n += 1) {
      world.clock.advance(1000);
      publish(`crowd${n}`);
    }
    world.clock.advance(7 * MINUTE);
    await Promise.all([look(), look()]);
    expect(await subjects()).toEqual([]);
    expect((await mails()).slice(before)).toEqual(['7 new posts came at once']);
    expect((await ruleNow())?.held[0]).toBe('Post crowd6');
    // A site that brings back its past in portions is held for each of them; whoever writes an hour later is not.
    publish('portion');
    expect(await poll()).toBe(0);
    blog.posts.pop();
    world.clock.advance(80 * MINUTE);
    publish('alone');
    expect(await poll()).toBe(1);
    // Pressed twice, it happens once.
    const made = await Promise.all([1, 2].map(() => decideHeld(world.ctx, newsletter, rule, { which })));
    expect(made.map((one) => one.posts).sort((a, b) => a - b)).toEqual([
      0,
      which === 'all' ? 7 : which === 'together' ? 7 : letters,
    ]);
    await look();
    expect(await subjects()).toHaveLength(1 + letters);
    if (which === 'newest') expect(await subjects()).toContain('Post crowd6');
    if (which === 'together') expect(await subjects()).toContain('Post crowd0 and 6 more');
    expect((await ruleNow()).held).toEqual([]);
    const past = await pastPosts(world.ctx, newsletter, rule);
    expect(past.find((one) => one.title === 'Post crowd3')?.why).toMatch(why);
    await expect(decideHeld(world.ctx, await world.newsletter('Other'), rule, { which })).rejects.toMatchObject({
      code: 'not-found',
    });
  });

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
    await look();
    await world.pool.query("alter table feed_items add constraint odd check (title <> 'Post cursed')");
    publish('before');
    publish('cursed');
    expect(await poll()).toBe(0);
    expect((await row()).fault).toContain('on our side');
    expect((await row()).next_poll_at!.getTime()).toBeGreaterThan(world.clock.now().getTime());
    await world.pool.query('alter table feed_items drop constraint odd');
    world.clock.advance(10 * MINUTE);
    expect(await look()).toBe(2);
    expect((await row()).fault).toBeNull();
  });

  it('off and on again mails nothing of the pause', async () => {
    await look();
    await switchRule(world.ctx, newsletter, rule, false);
    publish('paused');
    world.clock.advance(DAY * 3);
    expect(await look()).toBe(0);
    await switchRule(world.ctx, newsletter, rule, true);
    expect(await look()).toBe(0);
    publish('after');
    expect(await poll()).toBe(1);
    expect(await subjects()).toEqual(['Post after']);
  });

  it('refuses an address that is no feed, before anything is saved', async () => {
    const input = {
      feedUrls: [`${blog.origin}/`],
      senderId: (await world.sender(newsletter, 'second.example')).senderId,
      listId: await world.list(newsletter),
    };
    blog.answer = 'page';
    await expect(createRule(world.ctx, newsletter, input)).rejects.toMatchObject({
      fields: { feedUrl: expect.stringContaining('a web page, not a feed') },
    });
    await expect(createRule(world.ctx, newsletter, { ...input, feedUrls: ['http://127.0.0.1:1/feed'] })).rejects.toMatchObject({
      code: 'unreachable',
    });
    const stranger = await world.newsletter('A stranger');
    blog.answer = 'feed';
    await expect(createRule(world.ctx, stranger, input)).rejects.toMatchObject({ fields: { senderId: 'Choose a sender.' } });
  });
});
