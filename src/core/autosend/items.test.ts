import { describe, expect, it } from 'vitest';
import { type FeedItem, itemKey, newItems, nextPoll, normaliseLink, UNTITLED } from './items';

const item = (n: number, more: Partial<FeedItem> = {}): FeedItem => ({
  guid: `g${n}`,
  link: `https://lanternfish.example/${n}`,
  title: `Post ${n}`,
  summary: '',
  document: { version: 1, nodes: [] },
  picture: null,
  publishedAt: new Date(Date.UTC(2026, 10, 10 + n)),
  ...more,
});
const known = (...keys: string[]) => ({ keys: new Set(keys), links: new Set<string>() });
const ON = new Date('2026-11-12T09:00:00Z');

describe('what makes two items the same', () => {
  it('is the GUID, else the normalised link', () => {
    expect(itemKey(item(1))).toBe('g1');
    const a = itemKey(item(1, { guid: null, link: 'http://Lanternfish.example/a/?utm_source=x&b=2&a=1#end' }));
    expect(a).toBe(itemKey(item(2, { guid: ' ', link: 'https://lanternfish.example/a?a=1&b=2' })));
    expect(normaliseLink('not a link')).toBe('not a link');
  });
});

describe('a GUID that is an address', () => {
  it('is the same by https as by http, and with a campaign behind it', () => {
    const key = (guid: string) => itemKey(item(1, { guid }));
    expect(key('http://lanternfish.example/?p=7')).toBe(key('https://lanternfish.example/?p=7'));
    expect(key('http://lanternfish.example/a/?utm_source=feed')).toBe(key('https://lanternfish.example/a'));
    expect(key('https://lanternfish.example/?p=7')).not.toBe(key('https://lanternfish.example/?p=8'));
    expect(key('tag:lanternfish.example,2026:Seven')).toBe('tag:lanternfish.example,2026:Seven');
  });
  it('that names nothing gives way to what the item says', () => {
    const key = (title: string) => itemKey(item(1, { guid: null, link: '', title }));
    expect(key('One')).toBe(key('One'));
    expect(key('One')).not.toBe(key('Two'));
    // By its title and its date: an edit of its words is no new post, and another month's notes are.
    const bare = (more: Partial<FeedItem>) => itemKey(item(1, { guid: null, link: '', title: 'Notes', ...more }));
    const said = (text: string) => ({ document: { version: 1 as const, nodes: [{ kind: 'subtitle' as const, text }] } });
    expect(bare(said('Edited'))).toBe(bare(said('As it was')));
    expect(bare({ publishedAt: new Date('2026-12-01') })).not.toBe(bare({ publishedAt: new Date('2026-11-01') }));
    expect(bare({ publishedAt: null, ...said('Edited') })).toBe(bare({ publishedAt: null }));
    // One without a title is what it says.
    expect(bare({ title: UNTITLED, ...said('One') })).not.toBe(bare({ title: UNTITLED, ...said('Two') }));
  });
});

describe('newItems', () => {
  it('never mails a post again whose GUID changed and whose link did not, unless all items share a link', () => {
    const before = { keys: new Set(['old']), links: new Set(['https://lanternfish.example/3']) };
    expect(newItems([item(3)], before, ON)).toMatchObject({ mail: [], file: [{ guid: 'g3' }], hold: [] });
    const same = [item(3), item(4, { link: 'https://lanternfish.example/3' })];
    expect(newItems(same, before, ON).mail).toHaveLength(2);
  });
  it('holds a crowd, and mails none of it', () => {
    const crowd = Array.from({ length: 6 }, (_, n) => item(n + 3));
    expect(newItems(crowd, known(), ON)).toMatchObject({ mail: [], file: [] });
    expect(newItems(crowd, known(), ON).hold.map((i) => i.guid)).toEqual(['g3', 'g4', 'g5', 'g6', 'g7', 'g8']);
    expect(newItems(crowd.slice(1), known(), ON).mail).toHaveLength(5);
  });
  it('gives each unknown item once, oldest first', () => {
    const { mail, file } = newItems([item(4), item(3), item(4), item(2)], known('g2'), ON);
    expect(mail.map((i) => i.guid)).toEqual(['g3', 'g4']);
    expect(file).toEqual([]);
  });
  it('files a back catalogue that turns up late, and never mails it', () => {
    const { mail, file } = newItems([item(5), item(-200)], known(), ON);
    expect(mail.map((i) => i.guid)).toEqual(['g5']);
    expect(file.map((i) => i.guid)).toEqual(['g-200']);
  });
  it('takes an item without a date as new, and a dateless feed from its end', () => {
    const { mail } = newItems([item(2, { publishedAt: null }), item(1, { publishedAt: null })], known(), ON);
    expect(mail.map((i) => i.guid)).toEqual(['g1', 'g2']);
  });
  it('counts a post dated by its day alone as of the day of switching on', () => {
    expect(newItems([item(2, { publishedAt: new Date('2026-11-12T00:00:00Z') })], known(), ON).mail).toHaveLength(1);
  });
});

describe('nextPoll', () => {
  it('backs off while a feed fails, up to six hours', () => {
    const waits = [0, 1, 2, 3, 20].map((failures) => (nextPoll(ON, 60_000, failures).getTime() - ON.getTime()) / 60_000);
    expect(waits).toEqual([1, 2, 4, 8, 360]);
  });
});
