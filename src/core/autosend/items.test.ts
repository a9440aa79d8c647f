import { describe, expect, it } from 'vitest';
import { type FeedItem, itemKey, newItems, nextPoll, normaliseLink } from './items';

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
const ON = new Date('2026-11-12T09:00:00Z');

describe('what makes two items the same', () => {
  it('is the GUID, else the normalised link', () => {
    expect(itemKey(item(1))).toBe('g1');
    const a = itemKey({ guid: null, link: 'http://Lanternfish.example/a/?utm_source=x&b=2&a=1#end' });
    expect(a).toBe(itemKey({ guid: ' ', link: 'https://lanternfish.example/a?a=1&b=2' }));
    expect(normaliseLink('not a link')).toBe('not a link');
  });
});

describe('newItems', () => {
  it('gives each unknown item once, oldest first', () => {
    const { mail, file } = newItems([item(4), item(3), item(4), item(2)], new Set(['g2']), ON);
    expect(mail.map((i) => i.guid)).toEqual(['g3', 'g4']);
    expect(file).toEqual([]);
  });
  it('files a back catalogue that turns up late, and never mails it', () => {
    const { mail, file } = newItems([item(5), item(-200)], new Set(), ON);
    expect(mail.map((i) => i.guid)).toEqual(['g5']);
    expect(file.map((i) => i.guid)).toEqual(['g-200']);
  });
  it('takes an item without a date as new, and a dateless feed from its end', () => {
    const { mail } = newItems([item(2, { publishedAt: null }), item(1, { publishedAt: null })], new Set(), ON);
    expect(mail.map((i) => i.guid)).toEqual(['g1', 'g2']);
  });
  it('counts a post dated by its day alone as of the day of switching on', () => {
    expect(newItems([item(2, { publishedAt: new Date('2026-11-12T00:00:00Z') })], new Set(), ON).mail).toHaveLength(1);
  });
});

describe('nextPoll', () => {
  it('backs off while a feed fails, up to six hours', () => {
    const waits = [0, 1, 2, 3, 20].map((failures) => (nextPoll(ON, 60_000, failures).getTime() - ON.getTime()) / 60_000);
    expect(waits).toEqual([1, 2, 4, 8, 360]);
  });
});
