import fc from 'fast-check';
import sharp from 'sharp';
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import type { Lane } from '@/core/autosend/lanes';
import type { Weekday } from '@/core/autosend/rhythm';
import type { RuleSettings, RuleWords } from '@/core/autosend/rule';
import { lookAhead, pastPosts, proveAhead, ruleOf, runsOf } from '@/server/autosend/coming';
import { FeedReader } from '@/server/autosend/feed-reader';
import { askHubs } from '@/server/autosend/hubs';
import { feedsInOpml, opmlOf } from '@/server/autosend/opml';
import { pollFeed } from '@/server/autosend/polling';
import { chooseRhythm, rhythmsOf } from '@/server/autosend/rhythms';
import {
  addFeed,
  changeRule,
  createRule,
  decideHeld,
  deleteRule,
  goOn,
  leaveOut,
  mendLanes,
  pauseRule,
  removeFeed,
  runNow,
  skipNext,
  switchRule,
} from '@/server/autosend/rules';
import { letJoin, rulesDue, runRule, tellOfEdit } from '@/server/autosend/runs';
import type { Context } from '@/server/context';
import { MarkBook } from '@/server/delivery/marks';
import { overFetch } from '@/server/public/request';
import { publicRoutes } from '@/server/public/router';
import { lastLook } from '@/server/sending/departing';
import { discardLetter } from '@/server/sending/drafts';
import { moveLetter, stopLetter } from '@/server/sending/letters';
import { reachOf, reachSoon } from '@/server/sending/reach';
import { startLetter } from '@/server/sending/start';
import { Blog } from './blog';
import { DAY, MINUTE, TestWorld } from './world';

const HOUR = 60 * MINUTE;
let world: TestWorld;
let blog: Blog;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
let rule: string;
let feed: string;
let readers: string[];

beforeAll(async () => {
  world = await TestWorld.open();
  blog = await new Blog().open();
});
afterAll(async () => {
  blog.close();
  await world.close();
});
async function fresh(): Promise<void> {
  // What earlier tests left on does nothing meanwhile.
  await world.pool.query('update auto_sends set switched_on_at = null');
  await world.pool.query('update feeds set next_poll_at = null');
  Object.assign(blog, { posts: [], answer: 'feed', asked: 0 });
  newsletter = await world.newsletter();
  await world.ctx.db.updateTable('newsletters').set({ time_zone: 'Europe/Lisbon' }).where('id', '=', newsletter.id).execute();
  newsletter = { ...newsletter, time_zone: 'Europe/Lisbon' };
  // Nine in the morning, so that hours of a day lie where tests have them.
  world.clock.advance(DAY - ((world.clock.now().getTime() - 9 * HOUR) % DAY));
  const { senderId } = await world.sender(newsletter);
  readers = await world.readers(newsletter, ['ada@birch.example', 'bo@birch.example', 'cy@birch.example']);
  ({ id: rule } = await createRule(world.ctx, newsletter, {
    feedUrls: [`${blog.origin}/feed.xml`],
    senderId,
    listId: await world.list(newsletter),
  }));
  feed = (await view()).feeds[0]!.id;
  await set({ quietMinutes: 0 });
  await switchRule(world.ctx, newsletter, rule, true);
  await work();
}
beforeEach(fresh);

const view = () => ruleOf(world.ctx, newsletter, rule);
const said = async (): Promise<RuleWords> => {
  const { name, settings, audience, sender, layout, intro } = await view();
  return { name, settings, audience, senderId: sender.id, layoutId: layout.id, intro };
};
async function set(settings: Partial<RuleSettings>, more: { intro?: string } = {}): Promise<void> {
  const seen = await said();
  await changeRule(world.ctx, newsletter, rule, { ...seen, ...more, settings: { ...seen.settings, ...settings }, seen });
}
const publish = (guid: string, more: Partial<Blog['posts'][number]> = {}) =>
  blog.posts.push({ guid, title: `Post ${guid}`, at: world.clock.now(), ...more });

const pollFeedNow = async (ctx: Context = world.ctx) => {
  await world.ctx.db
    .updateTable('feeds')
    .set({ next_poll_at: world.clock.now() })
    .where('id', '=', feed)
    .where('next_poll_at', 'is not', null)
    .execute();
  await pollFeed(ctx, feed);
};

/** What the worker does: feeds, rules, and letters that are due, as often as it takes. */
async function work(ctx: Context = world.ctx): Promise<void> {
  await pollFeedNow(ctx);
  for (let n = 0; n < 30; n += 1) {
    for (const { id } of await rulesDue(ctx)) if (id === rule) await runRule(ctx, rule);
    const due = await letters(['scheduled', 'held', 'starting']);
    for (const { id } of due) {
      await letJoin(ctx, id);
      await startLetter(ctx, id);
    }
    const again = (await rulesDue(world.ctx)).some((one) => one.id === rule);
    if (due.length === 0 && !again) return;
  }
}
const letters = (states?: string[]) => {
  const all = world.ctx.db
    .selectFrom('letters')
    .selectAll()
    .where('newsletter_id', '=', newsletter.id)
    .orderBy('created_at')
    .orderBy('id');
  return (states ? all.where('state', 'in', states as never) : all).execute();
};
const subjects = async (states?: string[]) => (await letters(states)).map((one) => one.subject);
/** What a reader got, post by post, in the order of the letters. */
async function titlesOf(who: string): Promise<string[]> {
  const { rows } = await world.pool.query<{ title: string }>(
    `select i.title from letters l join deliveries d on d.letter_id = l.id join letter_posts p on p.letter_id = l.id join feed_items i on i.id = p.item_id
     where l.newsletter_id = $1 and split_part(d.address, '@', 1) = $2 order by l.created_at, l.id, p.place`,
    [newsletter.id, who],
  );
  return rows.map((row) => row.title);
}
const choose = async (who: number, lane: Lane) =>
  world.ctx.db.transaction().execute(async (trx) => {
    const [offered] = await rhythmsOf(trx, newsletter.id, readers[who]!);
    await chooseRhythm(world.ctx, trx, readers[who]!, offered!, lane);
  });
/** Goes to the next time that a clock in Lisbon shows an hour, and does what is due. */
async function until(hour: string, days = 0): Promise<void> {
  const now = world.clock.now();
  const shown = new Intl.DateTimeFormat('en-GB', {
    timeZone: 'Europe/Lisbon',
    hour: '2-digit',
    minute: '2-digit',
    hourCycle: 'h23',
  }).format(now);
  const minutes = (text: string) => Number(text.slice(0, 2)) * 60 + Number(text.slice(3));
  const ahead = (minutes(hour) - minutes(shown) + 1_440) % 1_440 || 1_440;
  world.clock.advance(ahead * MINUTE + days * DAY);
  await work();
}
const DAILY = { kind: 'days', days: [1, 2, 3, 4, 5, 6, 7], hour: '07:00' } as const;
const CHOICES = { daily: '07:00', weekly: { day: 7, hour: '09:00' } } as const;

describe('a rule with hours', () => {
  it('makes one letter of four posts of a day, and none of none', async () => {
    await set({ rhythm: { ...DAILY, days: [...DAILY.days] } });
    for (const guid of ['a', 'b', 'c', 'd']) publish(guid);
    await work();
    expect(await subjects()).toEqual([]);
    await until('07:00');
    expect(await subjects()).toEqual(['Post a and 3 more']);
    expect((await letters())[0]).toMatchObject({ kind: 'digest', lane: 'usual' });
    await until('07:00');
    expect(await subjects()).toHaveLength(1);
    expect((await runsOf(world.ctx, rule)).map((run) => run.state)).toEqual(['nothing', 'done']);
    expect(await titlesOf('ada')).toEqual(['Post a', 'Post b', 'Post c', 'Post d']);
  });

  it('takes an edit before the run, leaves out what was taken down, and says why of each', async () => {
    await set({ rhythm: { ...DAILY, days: [...DAILY.days] } });
    for (const guid of ['a', 'b', 'c']) {
      publish(guid);
      world.clock.advance(MINUTE);
    }
    await work();
    blog.posts[0]!.title = 'Edited';
    blog.posts.splice(1, 1);
    world.clock.advance(MINUTE);
    await work();
    const [next] = (await view()).coming;
    expect(next).toMatchObject({ state: 'ready', people: 3 });
    expect(next!.posts.map((post) => [post.title, post.fate])).toEqual([
      ['Edited', 'in'],
      ['Post c', 'in'],
      ['Post b', 'gone'],
    ]);
    await until('07:00');
    expect(await subjects()).toEqual(['Edited and 1 more']);
    // Put back, it is one of those that the lane has not passed only if it is newer; it was passed.
    const shown = await world.pool.query('select html from letters where newsletter_id = $1', [newsletter.id]);
    expect(shown.rows[0].html).toContain('Edited');
    expect(shown.rows[0].html).not.toContain('Post b');
    // After the run an edit is offered to be told, never told by itself.
    world.clock.advance(HOUR);
    blog.posts[0]!.words = 'Other words';
    await work();
    await until('07:00');
    expect(await subjects()).toHaveLength(1);
    const edited = (await pastPosts(world.ctx, newsletter, rule)).find((one) => one.act === 'tell');
    expect(edited).toMatchObject({ title: 'Edited', why: expect.stringContaining('edited since') });
    const { letterId } = await tellOfEdit(world.ctx, newsletter, rule, edited!.itemId);
    expect((await letters(['draft'])).map((one) => one.id)).toEqual([letterId]);
  });

  it('skips an hour by hand, and its posts wait for the one after; taken back, it does not', async () => {
    await set({ rhythm: { ...DAILY, days: [...DAILY.days] } });
    publish('a');
    await work();
    await skipNext(world.ctx, newsletter, rule, 'usual', true);
    expect((await view()).coming.map((run) => run.state).slice(0, 2)).toEqual(['skipped', 'ready']);
    await skipNext(world.ctx, newsletter, rule, 'usual', false);
    await skipNext(world.ctx, newsletter, rule, 'usual', true);
    await until('07:00');
    expect(await subjects()).toEqual([]);
    await until('07:00');
    expect(await subjects()).toEqual(['Post a']);
  });

  it('has no more posts than one letter holds; the rest goes into the next, or into none', async () => {
    await set({ rhythm: { ...DAILY, days: [...DAILY.days] }, most: 2 });
    for (const guid of ['a', 'b', 'c']) publish(guid);
    await until('07:00');
    await until('07:00');
    expect(await subjects()).toEqual(['Post a and 1 more', 'Post c']);
    await set({ rest: 'never' });
    for (const guid of ['d', 'e', 'f']) publish(guid);
    await until('07:00');
    await until('07:00');
    expect((await subjects()).slice(2)).toEqual(['Post d and 1 more']);
    publish('g');
    await until('07:00');
    expect((await subjects()).slice(3)).toEqual(['Post g']);
  });

  it('runs when so many posts wait, monthly, and now', async () => {
    await set({ rhythm: { kind: 'gathered', posts: 3 } });
    publish('a');
    publish('b');
    await work();
    expect(await subjects()).toEqual([]);
    expect((await view()).coming.at(-1)).toMatchObject({ at: null, state: 'gathering' });
    publish('c');
    await work();
    expect(await subjects()).toEqual(['Post a and 2 more']);
    await set({ rhythm: { kind: 'monthly', day: 31, hour: '07:00' } });
    publish('d');
    await work();
    expect(await subjects()).toHaveLength(1);
    await runNow(world.ctx, newsletter, rule);
    await work();
    expect((await subjects()).slice(1)).toEqual(['Post d']);
    await expect(runNow(world.ctx, newsletter, rule)).rejects.toMatchObject({ code: 'conflict' });
  });

  it('waits for last edits, and for a date that lies ahead', async () => {
    await set({ quietMinutes: 20 });
    publish('a');
    publish('ahead', { at: new Date(world.clock.now().getTime() + 3 * HOUR) });
    await work();
    world.clock.advance(19 * MINUTE);
    blog.posts[0]!.words = 'Once more';
    await work();
    world.clock.advance(19 * MINUTE);
    await work();
    expect(await subjects()).toEqual([]);
    expect((await view()).coming[0]).toMatchObject({
      state: 'gathering',
      posts: expect.arrayContaining([expect.objectContaining({ fate: 'in' })]),
    });
    world.clock.advance(2 * MINUTE);
    await work();
    expect(await subjects()).toEqual(['Post a']);
    world.clock.advance(3 * HOUR);
    await work();
    expect(await subjects()).toEqual(['Post a', 'Post ahead']);
  });

  it('takes what its feed writes otherwise at each asking, and says the same, for no edit', async () => {
    await set({ quietMinutes: 20 });
    publish('a');
    for (let n = 0; n < 5; n += 1) {
      blog.posts[0]!.words = `&lt;p&gt;Words&lt;/p&gt;&lt;img width="1" height="1" src="/counts?${n}"&gt;`;
      await work();
      expect(await subjects()).toEqual(n < 4 ? [] : ['Post a']);
      world.clock.advance(5 * MINUTE);
    }
  });

  it('has what a post says that came as it was switched on', async () => {
    await switchRule(world.ctx, newsletter, rule, false);
    publish('a', { words: 'Said meanwhile', at: new Date(world.clock.now().getTime() + HOUR) });
    await world.ctx.db.updateTable('feeds').set({ next_poll_at: world.clock.now() }).where('id', '=', feed).execute();
    blog.meanwhile = () => switchRule(world.ctx, newsletter, rule, true);
    await pollFeed(world.ctx, feed);
    blog.meanwhile = null;
    await work();
    world.clock.advance(HOUR);
    await work();
    expect((await letters()).map((one) => one.html?.includes('Said meanwhile'))).toEqual([true]);
  });

  it('does not read for ever what it cannot put to what it knows', async () => {
    publish('a');
    await work();
    await world.pool.query("update feed_items set item_key = 'other', link = '', title = 'Other' where feed_id = $1", [feed]);
    publish('b');
    await work();
    await work();
    expect((await letters()).map((one) => one.html?.includes(`Words of ${one.subject.replace(/ and.*/, '')}`))).not.toContain(
      false,
    );
    const { rows } = await world.pool.query('select next_poll_at > $2 as later from feeds where id = $1', [
      feed,
      world.clock.now(),
    ]);
    expect(rows[0].later).toBe(true);
  });

  it('takes what it says it takes, and takes in by hand what it does not', async () => {
    await set({ topics: ['eels'], leavingOut: ['secret'] });
    publish('a', { topic: 'Eels' });
    publish('b', { topic: 'moths' });
    publish('c', { topic: 'eels', words: 'A SECRET pond' });
    await work();
    expect(await subjects()).toEqual(['Post a']);
    const past = await pastPosts(world.ctx, newsletter, rule);
    expect(past.find((one) => one.title === 'Post b')).toMatchObject({ why: 'is not what this rule takes', act: 'take in' });
    await set({ topics: [], leavingOut: [] });
    await work();
    expect(await subjects()).toHaveLength(1);
    await leaveOut(world.ctx, newsletter, rule, past.find((one) => one.title === 'Post b')!.itemId, false);
    await work();
    expect(await subjects()).toEqual(['Post a', 'Post b']);
  });

  it('shows and proves its next letter as it leaves', async () => {
    await set({ rhythm: { ...DAILY, days: [...DAILY.days] } }, { intro: 'Hello again' });
    publish('a');
    publish('b');
    await work();
    const seen = await lookAhead(world.ctx, newsletter, rule, 'usual', 0);
    expect(seen.subject).toBe('Post a and 1 more');
    expect(seen.html).toContain('Hello again');
    await proveAhead(world.ctx, newsletter, { name: 'Otto' }, rule, 'usual', 0, { to: 'otto@postbird.example' });
    await expect(lookAhead(world.ctx, newsletter, rule, 'usual', 1)).rejects.toMatchObject({ code: 'conflict' });
    await until('07:00');
    const [letter] = await letters();
    expect(letter!.html).toContain('Hello again');
    expect(letter!.html!.replace(/\s+/g, ' ')).toContain('Post b');
    // The note was for that one alone.
    expect((await view()).intro).toBe('');
    await world.work();
    expect(world.mail.to('otto@postbird.example').length).toBe(1);
  });
});

describe('two windows, and a rule that is stopped in the middle', () => {
  it('takes back nothing that another window chose, and no note that has left', async () => {
    await set({ rhythm: { ...DAILY, days: [...DAILY.days] } }, { intro: 'Hello' });
    const seen = await said();
    publish('a');
    await until('07:00');
    // The letter has the note; a window that still shows it does not put it into the next one.
    await expect(
      changeRule(world.ctx, newsletter, rule, { ...seen, settings: { ...seen.settings, most: 3 }, seen }),
    ).rejects.toMatchObject({ code: 'conflict' });
    expect(await said()).toMatchObject({ intro: '', settings: { most: 10 } });
    await set({ most: 3 });
    expect((await said()).settings.most).toBe(3);
  });
  it('goes on after a letter that was stopped while it started', async () => {
    publish('a');
    await pollFeedNow();
    await runRule(world.ctx, rule);
    const [letter] = await letters(['scheduled']);
    await world.ctx.db.transaction().execute((trx) => moveLetter(world.ctx, trx, letter!.id, 'start'));
    await stopLetter(world.ctx, newsletter, letter!.id, 'Otto');
    publish('b');
    await work();
    expect(await subjects(['sending', 'sent'])).toEqual(['Post b']);
    expect((await runsOf(world.ctx, rule)).map((run) => run.state).sort()).toEqual(['done', 'dropped']);
  });
  it('switched off, nothing it made leaves later by itself, and nothing of it is lost', async () => {
    await set({ rhythm: { ...DAILY, days: [...DAILY.days] }, approval: { hours: 3, otherwise: 'send' } });
    publish('a');
    await until('07:00');
    await switchRule(world.ctx, newsletter, rule, false);
    await switchRule(world.ctx, newsletter, rule, true);
    world.clock.advance(5 * HOUR);
    await work();
    expect(await subjects(['draft'])).toEqual(['Post a']);
    expect(await subjects(['sending', 'sent'])).toEqual([]);
    publish('b');
    await until('07:00');
    expect(await subjects(['draft'])).toEqual(['Post a', 'Post b']);
    await deleteRule(world.ctx, newsletter, rule);
    expect(await subjects(['draft'])).toEqual(['Post a', 'Post b']);
  });
});

describe('feeds that are many, or odd', () => {
  it('a feed that keeps a very old post on top is read for all that', async () => {
    publish('top', { at: new Date(world.clock.now().getTime() - 900 * DAY) });
    await work();
    await world.pool.query(
      `insert into feed_items (id, feed_id, item_key, title, link, source, print, published_at, first_seen_at, changed_at)
       select gen_random_uuid(), $1, 'x' || n, 'X', '', 's', 'p', $2::timestamptz - n * interval '1 minute', $2, $2 from generate_series(1, 2100) n`,
      [feed, world.clock.now()],
    );
    blog.posts[0]!.title = 'On top';
    await work();
    expect((await view()).feeds[0]!.fault).toBeNull();
    expect((await world.pool.query("select count(*)::int as n from feed_items where title = 'On top'")).rows[0].n).toBe(1);
  });
  it('one host’s thousands keep no other waiting, and an address that is none holds up nobody', async () => {
    const slow = await new Blog().open();
    slow.answer = 'silent';
    const now = world.clock.now();
    await world.pool.query(
      `insert into feeds (id, newsletter_id, url, title, next_poll_at, created_at)
       select gen_random_uuid(), $1, case when n = 0 then 'no address' else $2 || n end, 'F', $3::timestamptz - interval '1 hour', $3 from generate_series(0, 200) n`,
      [newsletter.id, `${slow.origin}/`, now],
    );
    await world.ctx.db.updateTable('feeds').set({ next_poll_at: now }).where('id', '=', feed).execute();
    publish('a');
    const reader = new FeedReader(world.ctx, 20);
    await reader.look();
    await expect.poll(async () => (await view()).waiting, { timeout: 10_000, interval: 50 }).toBe(1);
    expect(slow.asked).toBeLessThanOrEqual(6);
    slow.close();
    await reader.stop();
    await world.pool.query("update feeds set next_poll_at = null where title = 'F'");
  });
});

describe('readers who may choose later', () => {
  it('begin where everybody is, and no letter goes to nobody meanwhile', async () => {
    await set({ most: 1 });
    for (const guid of ['a', 'b', 'c']) {
      publish(guid);
      await work();
      world.clock.advance(2 * HOUR);
    }
    await set({ choices: CHOICES });
    await choose(1, 'daily');
    publish('d');
    await work();
    await until('07:00');
    expect(await subjects()).toEqual(['Post a', 'Post b', 'Post c', 'Post d', 'Post d']);
    for (const who of ['ada', 'bo', 'cy']) expect(await titlesOf(who), who).toEqual(['Post a', 'Post b', 'Post c', 'Post d']);
    const { rows } = await world.pool.query(
      'select count(*)::int as n from letters l where l.newsletter_id = $1 and not exists (select 1 from deliveries d where d.letter_id = l.id)',
      [newsletter.id],
    );
    // The daily letter is to those alone who came to it; beside it stands none that has nobody.
    expect(rows[0].n).toBe(0);
  });
});

describe('a clock that goes backwards', () => {
  it('does not make a rule wait for an hour of the old time', async () => {
    await set({ rhythm: { ...DAILY, days: [...DAILY.days] }, quietMinutes: 20 });
    const at = world.clock.now();
    world.clock.advance(40 * DAY);
    await work();
    publish('a', { at });
    await work();
    world.clock.advance(-40 * DAY);
    await mendLanes(world.ctx);
    world.clock.advance(HOUR);
    await work();
    await until('07:00');
    expect(await subjects()).toEqual(['Post a']);
  });
});

describe('what a letter of a post is made of', () => {
  it('is the article itself where the feed has a summary alone, with its pictures kept here; what cannot be had stays as it is', async () => {
    const lamp = await sharp({ create: { width: 60, height: 40, channels: 3, background: '#10282f' } })
      .png()
      .toBuffer();
    const words =
      'The lampfish is counted once a year, on the night on which its lamps are brightest, by people in small boats. ';
    blog.pages = {
      '/lamp.png': { type: 'image/png', body: lamp },
      '/broken.png': { type: 'image/png', body: 'no picture' },
      '/a': {
        type: 'text/html',
        body: `<!doctype html><html><head><title>a</title></head><body><nav><a href="/">All posts</a></nav><article><h1>Post a</h1>${`<p>${words.repeat(4)}</p>`.repeat(4)}<p><img src="/lamp.png" alt="A lamp"><img src="/broken.png" alt="Another"></p></article></body></html>`,
      },
    };
    const html = async () => (await letters()).at(-1)!.html!;
    publish('plain', { link: 'a' });
    await work();
    expect(await html()).not.toContain('small boats');
    await set({ article: true });
    world.clock.advance(2 * HOUR);
    publish('a');
    await work();
    const made = await html();
    expect(made).toContain('small boats');
    expect(made).not.toContain('All posts');
    expect(made).not.toContain(`${blog.origin}/lamp.png`);
    expect(made).toMatch(/\/e\/media\/[0-9a-f-]{36}\.png/);
    expect(made).toContain(`${blog.origin}/broken.png`);
    // An edit takes no picture in again that is kept already.
    const kept = async () =>
      (await world.pool.query('select count(*)::int as n from media where newsletter_id = $1', [newsletter.id])).rows[0].n;
    const before = await kept();
    expect(before).toBe(1);
    blog.posts.at(-1)!.words = 'Another summary';
    world.clock.advance(HOUR);
    await work();
    expect(await kept()).toBe(before);
    blog.pages = {};
  });
  it('keeps its pictures here when it only gets another date', async () => {
    const lamp = await sharp({ create: { width: 60, height: 40, channels: 3, background: '#10282f' } })
      .png()
      .toBuffer();
    blog.pages = { '/lamp.png': { type: 'image/png', body: lamp } };
    await set({ quietMinutes: 20 });
    publish('a', { words: '&lt;p&gt;Words&lt;/p&gt;&lt;img src="/lamp.png" alt="A lamp"&gt;' });
    await work();
    blog.posts[0]!.at = new Date(world.clock.now().getTime() + MINUTE);
    await work();
    world.clock.advance(21 * MINUTE);
    await work();
    const [letter] = await letters();
    expect(letter!.html).toContain('A lamp');
    expect(letter!.html).not.toContain(`${blog.origin}/lamp.png`);
    blog.pages = {};
  });
});

describe('a draft to approve', () => {
  it.each([
    ['send', 'Post a', 'done'],
    ['drop', null, 'dropped'],
  ] as const)('that nobody looks at: %s', async (otherwise, subject, state) => {
    await set({ rhythm: { ...DAILY, days: [...DAILY.days] }, approval: { hours: 3, otherwise } });
    publish('a');
    await until('07:00');
    expect(await subjects(['draft'])).toEqual(['Post a']);
    expect((await view()).open).toMatchObject([{ state: 'draft', subject: 'Post a' }]);
    world.clock.advance(3 * HOUR);
    await work();
    expect((await runsOf(world.ctx, rule))[0]).toMatchObject({ state });
    expect(await subjects(['sending', 'sent'])).toEqual(subject ? [subject] : []);
    // What was not mailed waits for the next one; what somebody may have written into it is kept.
    publish('b');
    await until('07:00');
    if (otherwise === 'drop') expect(await subjects(['draft'])).toEqual(['Post a', 'Post a and 1 more']);
  });
  it('leaves once somebody lets it go, with those who came to its rhythm; thrown away, its posts are not mailed', async () => {
    // Its week ends after all of this.
    const day = (((world.clock.now().getUTCDay() + 5) % 7) + 1) as Weekday;
    await set({
      rhythm: { ...DAILY, days: [...DAILY.days] },
      approval: { hours: 40, otherwise: 'drop' },
      choices: { ...CHOICES, weekly: { ...CHOICES.weekly, day } },
    });
    publish('a');
    await choose(2, 'weekly');
    await until('07:00');
    // What is said before it is let go is of those at its rhythm alone.
    const [seen] = await letters(['draft']);
    const departure = { when: 'now', local: '', zone: 'UTC', fold: 'first', pace: { kind: 'at once' } };
    expect((await lastLook(world.ctx, newsletter, seen!.id, departure)).will).toBe(2);
    expect((await reachOf(world.ctx, newsletter, seen!.audience, seen)).will).toBe(2);
    expect((await reachSoon(world.ctx, newsletter, seen!.audience, seen)).will).toBe(2);
    // The next hour passes by while it waits.
    publish('b');
    await until('07:00');
    expect(await subjects()).toEqual(['Post a']);
    const [draft] = await letters(['draft']);
    await world.ctx.db
      .transaction()
      .execute((trx) => moveLetter(world.ctx, trx, draft!.id, 'schedule', null, { due_at: world.clock.now() }));
    await work();
    expect(await titlesOf('ada')).toEqual(['Post a']);
    expect(await titlesOf('cy')).toEqual([]);
    await until('07:00');
    const [second] = await letters(['draft']);
    expect(second!.subject).toBe('Post b');
    await discardLetter(world.ctx, newsletter, second!.id);
    publish('c');
    await until('07:00');
    expect(await subjects(['draft'])).toEqual(['Post c']);
  });
});

describe('a pause', () => {
  it.each([
    ['all', ['Post a', 'Post b', 'Post c']],
    ['together', ['Post a and 2 more']],
    ['newest', ['Post c']],
    ['none', []],
  ] as const)('asks what becomes of what gathered: %s', async (which, sent) => {
    await pauseRule(world.ctx, newsletter, rule);
    for (const guid of ['a', 'b', 'c']) {
      publish(guid);
      world.clock.advance(2 * HOUR);
      await work();
    }
    expect(await subjects()).toEqual([]);
    expect(await view()).toMatchObject({ waiting: 3, coming: [] });
    await Promise.all([1, 2].map(() => goOn(world.ctx, newsletter, rule, { which })));
    await work();
    expect(await subjects()).toEqual(sent);
    publish('d');
    await work();
    expect((await subjects()).at(-1)).toBe('Post d');
    expect(new Set(await titlesOf('bo')).size).toBe((await titlesOf('bo')).length);
  });
});

describe('readers who choose their rhythm', () => {
  beforeEach(() => set({ choices: CHOICES }));
  it('get each post once, at once, daily or weekly, and when they change in between', async () => {
    await choose(1, 'daily');
    await choose(2, 'weekly');
    publish('a');
    await work();
    expect(await titlesOf('ada')).toEqual(['Post a']);
    expect(await titlesOf('bo')).toEqual([]);
    await until('07:00');
    expect(await titlesOf('bo')).toEqual(['Post a']);
    // From weekly to each: what was waiting comes at once.
    await choose(2, 'each');
    await work();
    expect(await titlesOf('cy')).toEqual(['Post a']);
    publish('b');
    await work();
    expect(await titlesOf('cy')).toEqual(['Post a', 'Post b']);
    // From each to daily: what was had does not come again.
    await choose(2, 'daily');
    publish('c');
    await work();
    await until('07:00');
    expect(await titlesOf('cy')).toEqual(['Post a', 'Post b', 'Post c']);
    expect(await titlesOf('bo')).toEqual(['Post a', 'Post b', 'Post c']);
    expect(await titlesOf('ada')).toEqual(['Post a', 'Post b', 'Post c']);
    // Once no rhythm may be chosen any more, everybody is like anybody.
    publish('d');
    await work();
    await set({ choices: null });
    await work();
    publish('e');
    await work();
    for (const who of ['ada', 'bo', 'cy'])
      expect((await titlesOf(who)).sort(), who).toEqual(['a', 'b', 'c', 'd', 'e'].map((one) => `Post ${one}`));
  });

  it('whatever the order of posts, edits, pauses, kills and changes of rhythm: each post once for each reader', async () => {
    const act = fc.oneof(
      { weight: 4, arbitrary: fc.record({ kind: fc.constant('publish' as const) }) },
      {
        weight: 5,
        arbitrary: fc.record({
          kind: fc.constant('choose' as const),
          who: fc.nat(2),
          lane: fc.constantFrom<Lane>('usual', 'each', 'daily', 'weekly'),
        }),
      },
      { weight: 2, arbitrary: fc.record({ kind: fc.constant('edit' as const), n: fc.nat(9) }) },
      { weight: 5, arbitrary: fc.record({ kind: fc.constant('hours' as const), n: fc.integer({ min: 1, max: 30 }) }) },
      { weight: 2, arbitrary: fc.record({ kind: fc.constant('killed' as const), after: fc.nat(40) }) },
      { weight: 1, arbitrary: fc.record({ kind: fc.constant('pause' as const) }) },
      { weight: 1, arbitrary: fc.record({ kind: fc.constant('skip' as const) }) },
    );
    await fc.assert(
      fc.asyncProperty(
        fc.array(act, { minLength: 8, maxLength: 22 }),
        fc.constantFrom('each', 'daily' as const),
        async (acts, usual) => {
          await fresh();
          await set({
            choices: CHOICES,
            brake: 500,
            rhythm: usual === 'each' ? { kind: 'each' } : { ...DAILY, days: [...DAILY.days] },
          });
          await work();
          const published: string[] = [];
          for (const one of acts) {
            world.clock.advance(7 * MINUTE);
            if (one.kind === 'publish') {
              const guid = `n${published.length}`;
              published.push(`Post ${guid}`);
              publish(guid);
              await work();
            } else if (one.kind === 'choose') await choose(one.who, one.lane);
            else if (one.kind === 'edit' && blog.posts[one.n]) blog.posts[one.n]!.words = `Edited ${world.clock.now().getTime()}`;
            else if (one.kind === 'hours') {
              world.clock.advance(one.n * HOUR);
              await work();
            } else if (one.kind === 'killed') await work(world.brokenAfter(one.after)).catch(() => undefined);
            else if (one.kind === 'pause') {
              await pauseRule(world.ctx, newsletter, rule);
              await work();
              await goOn(world.ctx, newsletter, rule, { which: 'all' });
            } else if (one.kind === 'skip' && usual === 'daily') await skipNext(world.ctx, newsletter, rule, 'usual', true);
          }
          for (let day = 0; day < 9; day += 1) {
            world.clock.advance(DAY);
            await work();
          }
          for (const who of ['ada', 'bo', 'cy']) {
            const titles = (await titlesOf(who)).filter((title) => published.includes(title));
            expect([...titles].sort(), who).toEqual([...published].sort());
          }
        },
      ),
      { numRuns: 12 },
    );
  }, 480_000);
});

describe('several sources', () => {
  it('are added and taken out, and brought by OPML and back', async () => {
    const other = await new Blog().open();
    other.posts.push({ guid: 'o0', title: 'Old there', at: world.clock.now() });
    world.clock.advance(2 * DAY);
    await addFeed(world.ctx, newsletter, rule, { url: `${other.origin}/feed.xml` });
    const second = (await view()).feeds.find((one) => one.url?.startsWith(other.origin))!;
    await world.ctx.db.updateTable('feeds').set({ next_poll_at: world.clock.now() }).execute();
    await pollFeed(world.ctx, second.id);
    other.posts.push({ guid: 'o1', title: 'New there', at: world.clock.now() });
    publish('here');
    world.clock.advance(20 * MINUTE);
    await pollFeed(world.ctx, second.id);
    await work();
    expect((await subjects()).sort()).toEqual(['New there', 'Post here']);
    const file = await opmlOf(world.ctx, newsletter);
    expect(feedsInOpml(Buffer.from(file)).urls.sort()).toEqual([`${blog.origin}/feed.xml`, `${other.origin}/feed.xml`].sort());
    // Another rule of the same source is told of, once it is on: who is in both would get everything twice.
    const twin = await createRule(world.ctx, newsletter, {
      feedUrls: [`${blog.origin}/feed.xml`],
      senderId: (await said()).senderId,
      listId: await world.list(newsletter),
      name: 'The twin',
    });
    expect((await view()).also).toEqual([]);
    await switchRule(world.ctx, newsletter, twin.id, true);
    expect((await view()).also).toEqual(['The twin']);
    await deleteRule(world.ctx, newsletter, twin.id);
    await removeFeed(world.ctx, newsletter, rule, second.id);
    await expect(removeFeed(world.ctx, newsletter, rule, feed)).rejects.toMatchObject({ code: 'conflict' });
    expect(
      (await world.ctx.db.selectFrom('feeds').select('next_poll_at').where('id', '=', second.id).executeTakeFirstOrThrow())
        .next_poll_at,
    ).toBeNull();
    other.close();
  });
  it.each([
    ['no XML', 'hello', /not an OPML file/],
    ['no feed', '<opml version="2.0"><body><outline text="x"/></body></opml>', /No feed/],
    ['entities', '<!DOCTYPE o [<!ENTITY a "b">]><opml version="2.0"><body/></opml>', /entities/],
    ['a script address', '<opml version="2.0"><body><outline text="x" xmlUrl="javascript:alert(1)"/></body></opml>', /No feed/],
  ])('a file with %s is refused in a sentence', (_, text, said) => {
    expect(() => feedsInOpml(Buffer.from(text))).toThrow(said);
  });
  it('the pages written here are one of them', async () => {
    const { senderId } = await world.sender(newsletter, 'pages.example');
    const { id } = await createRule(world.ctx, newsletter, {
      own: true,
      senderId,
      listId: await world.list(newsletter),
      name: 'Pages',
    });
    await switchRule(world.ctx, newsletter, id, true);
    const pages = (await ruleOf(world.ctx, newsletter, id)).feeds[0]!;
    await pollFeed(world.ctx, pages.id);
    world.clock.advance(HOUR);
    await world.ctx.db
      .insertInto('posts')
      .values({
        id: crypto.randomUUID(),
        newsletter_id: newsletter.id,
        slug: 'a-page',
        title: 'A page of ours',
        document: JSON.stringify({ version: 1, nodes: [] }),
        goes: 'page',
        published_at: world.clock.now(),
        created_at: world.clock.now(),
        updated_at: world.clock.now(),
        link: null,
      })
      .execute();
    await world.ctx.db.updateTable('feeds').set({ next_poll_at: world.clock.now() }).where('id', '=', pages.id).execute();
    expect(await pollFeed(world.ctx, pages.id)).toBe(1);
    world.clock.advance(30 * MINUTE);
    await runRule(world.ctx, id);
    expect(await subjects()).toEqual(['A page of ours']);
    expect(
      (await world.pool.query("select link, goes from posts where newsletter_id = $1 and goes = 'letter'", [newsletter.id])).rows,
    ).toMatchObject([{ link: expect.stringContaining('/a-page') }]);
    await deleteRule(world.ctx, newsletter, id);
    await expect(ruleOf(world.ctx, newsletter, id)).rejects.toMatchObject({ code: 'not-found' });
  });
});

describe('what is odd about a feed', () => {
  const told = async () => {
    await world.work();
    return world.mail.to(`${newsletter.owner}@postbird.example`).map((mail) => /^Subject: (.*)$/m.exec(mail.source)?.[1] ?? '');
  };
  it('that is suddenly empty, and silent for three times the usual, is said once, and nothing counts as taken down', async () => {
    for (let n = 8; n > 0; n -= 1)
      blog.posts.push({ guid: `o${n}`, title: `Old ${n}`, at: new Date(world.clock.now().getTime() - n * 2 * DAY) });
    await switchRule(world.ctx, newsletter, rule, false);
    await switchRule(world.ctx, newsletter, rule, true);
    await work();
    publish('waits');
    await set({ rhythm: { kind: 'monthly', day: 1, hour: '07:00' } });
    await work();
    const all = blog.posts;
    blog.posts = [];
    for (let n = 0; n < 3; n += 1) {
      world.clock.advance(HOUR);
      await work();
    }
    expect((await told()).filter((one) => /shows no post/.test(one))).toHaveLength(1);
    expect((await view()).feeds[0]!.emptiedAt).not.toBeNull();
    expect((await view()).coming[0]!.posts.map((post) => post.fate)).toEqual(['in']);
    blog.posts = all;
    await work();
    expect((await view()).feeds[0]!.emptiedAt).toBeNull();
    world.clock.advance(5 * DAY);
    await work();
    expect((await view()).feeds[0]!.quiet).toBe(false);
    world.clock.advance(2 * DAY);
    await work();
    await work();
    expect((await told()).filter((one) => /No new post/.test(one))).toHaveLength(1);
    publish('again');
    await work();
    expect((await view()).feeds[0]!.quiet).toBe(false);
  });
  it('GUIDs that all change, dates, order and addresses that change: nothing is mailed again', async () => {
    for (const guid of ['a', 'b']) {
      publish(guid, { link: `posts/${guid}` });
      world.clock.advance(MINUTE);
    }
    await work();
    expect(await subjects()).toHaveLength(2);
    world.clock.advance(DAY);
    const before = blog.posts.map((post) => ({ ...post }));
    blog.posts = before.map((post) => ({ ...post, at: world.clock.now() })).reverse();
    await work();
    blog.posts = before.map((post) => ({ ...post, guid: `http://new.example/?p=${post.guid}` }));
    await work();
    blog.posts = before.map((post) => ({ ...post, guid: `https://NEW.example/?p=${post.guid}` }));
    await work();
    // Moved elsewhere, with other GUIDs: known by their titles and dates.
    blog.posts = before.map((post) => ({ ...post, guid: `moved-${post.guid}`, link: `archive/${post.guid}` }));
    await work();
    blog.posts = before;
    await work();
    world.clock.advance(DAY);
    await work();
    expect(await subjects()).toHaveLength(2);
  });
  it('five posts at once are held and four are not; held ones go or not, as somebody says', async () => {
    for (const n of [1, 2, 3, 4]) publish(`four${n}`);
    await work();
    expect(await subjects()).toHaveLength(4);
    world.clock.advance(3 * HOUR);
    await set({ brake: 2 });
    for (const n of [1, 2, 3]) publish(`three${n}`);
    await work();
    expect(await subjects()).toHaveLength(4);
    expect((await view()).held).toEqual(['Post three3', 'Post three2', 'Post three1']);
    await decideHeld(world.ctx, newsletter, rule, { which: 'none' });
    await work();
    expect(await subjects()).toHaveLength(4);
    // One of them was read a moment before the others, and waits for its last edits.
    world.clock.advance(3 * HOUR);
    await set({ quietMinutes: 20 });
    publish('first');
    await work();
    world.clock.advance(2 * MINUTE);
    for (const n of [1, 2, 3]) publish(`late${n}`);
    await work();
    expect((await view()).feeds[0]!.fault).toBeNull();
    expect((await view()).held).toHaveLength(4);
  });
});

describe('a hub (WebSub)', () => {
  it('is asked once, confirmed by what we asked for alone, and tells of a post, which is read from the feed itself', async () => {
    blog.hub = `${blog.origin}/hub`;
    publish('first');
    await work();
    expect(await askHubs(world.ctx)).toBe(1);
    expect(await askHubs(world.ctx)).toBe(0);
    const [wish] = blog.wishes;
    expect(wish!.get('hub.mode')).toBe('subscribe');
    expect(wish!.get('hub.topic')).toBe(`${blog.origin}/feed.xml`);
    const callback = wish!.get('hub.callback')!;
    const ask = async (query: Record<string, string>, method = 'GET') => {
      const pages = overFetch(publicRoutes(world.ctx, new MarkBook(world.ctx)));
      return pages(new Request(`${callback}?${new URLSearchParams(query)}`, { method }));
    };
    const yes = {
      'hub.mode': 'subscribe',
      'hub.topic': `${blog.origin}/feed.xml`,
      'hub.challenge': 'abc',
      'hub.lease_seconds': '99999999',
    };
    // What we did not ask for is not confirmed.
    expect((await ask({ ...yes, 'hub.topic': 'https://saltmarsh.example/feed' })).status).toBe(404);
    expect((await ask({ ...yes, 'hub.mode': 'unsubscribe' })).status).toBe(404);
    const confirmed = await ask(yes);
    expect([confirmed.status, await confirmed.text(), confirmed.headers.get('content-type')]).toEqual([
      200,
      'abc',
      'text/plain; charset=utf-8',
    ]);
    const until = (await view()).feeds[0]!.hubUntil!.getTime() - world.clock.now().getTime();
    expect(until).toBe(10 * DAY);
    publish('told');
    const asked = blog.asked;
    // Told at once after a look, it is looked at again half a minute later, told once or often.
    for (let n = 0; n < 3; n += 1) expect((await ask({}, 'POST')).status).toBe(202);
    expect(await pollFeed(world.ctx, feed)).toBe(0);
    expect(blog.asked).toBe(asked);
    world.clock.advance(MINUTE / 2);
    expect(await pollFeed(world.ctx, feed)).toBe(1);
    expect(blog.asked).toBe(asked + 1);
    // Told while it is being read, that reading ends as it would, and another comes after it: a hub that never tires keeps nothing from being read.
    world.clock.advance(MINUTE);
    publish('meanwhile');
    blog.meanwhile = async () => {
      await ask({}, 'POST');
      blog.meanwhile = null;
      blog.afterwards = () => publish('behind');
    };
    await ask({}, 'POST');
    expect(await pollFeed(world.ctx, feed)).toBe(1);
    expect(await pollFeed(world.ctx, feed)).toBe(0);
    world.clock.advance(MINUTE / 2);
    expect(await pollFeed(world.ctx, feed)).toBe(1);
    // Of one that cannot be read, too, though not at once, and whether or not it was told while that was tried.
    blog.answer = 'broken';
    publish('mended');
    world.clock.advance(MINUTE);
    await ask({}, 'POST');
    blog.meanwhile = async () => {
      await ask({}, 'POST');
      blog.meanwhile = null;
    };
    expect(await pollFeed(world.ctx, feed)).toBe(0);
    blog.answer = 'feed';
    await ask({}, 'POST');
    expect(await pollFeed(world.ctx, feed)).toBe(0);
    world.clock.advance(MINUTE);
    expect(await pollFeed(world.ctx, feed)).toBe(1);
    // Before its time is over it is asked again.
    world.clock.advance(9.5 * DAY);
    await work();
    expect(await askHubs(world.ctx)).toBe(1);
    blog.hub = '';
    blog.wishes = [];
  });
});

describe('a worker that is killed', () => {
  it('between finding and sending neither loses nor doubles a run, at whatever statement', async () => {
    await set({ rhythm: { ...DAILY, days: [...DAILY.days] }, choices: CHOICES });
    await choose(1, 'daily');
    publish('a');
    await work();
    await choose(2, 'each');
    await choose(2, 'usual');
    publish('b');
    world.clock.advance(22 * HOUR);
    for (let n = 0; n < 90; n += 2) await work(world.brokenAfter(n)).catch(() => undefined);
    await work();
    for (const who of ['ada', 'bo', 'cy']) expect((await titlesOf(who)).sort(), who).toEqual(['Post a', 'Post b']);
  });
});
