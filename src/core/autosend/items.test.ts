import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  type FeedItem,
  isNewPost,
  itemKey,
  type KnownItem,
  nextPoll,
  normaliseLink,
  recognise,
  takenDown,
  UNTITLED,
} from './items';

const item = (n: number, more: Partial<FeedItem> = {}): FeedItem => ({
  guid: `g${n}`,
  link: `https://lanternfish.example/${n}`,
  title: `Post ${n}`,
  summary: '',
  source: '',
  document: { version: 1, nodes: [] },
  picture: null,
  publishedAt: new Date(Date.UTC(2026, 10, 10 + n)),
  topics: [],
  author: '',
  ...more,
});
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

describe('what an item was before', () => {
  const before = (n: number, more: Partial<KnownItem> = {}): KnownItem => ({
    id: `id${n}`,
    key: `g${n}`,
    link: `https://lanternfish.example/${n}`,
    title: `Post ${n}`,
    publishedAt: new Date(Date.UTC(2026, 10, 10 + n)),
    ...more,
  });
  const was = (items: FeedItem[], known: KnownItem[]) => recognise(items, known).map((one) => [one.key, one.known?.id ?? null]);
  it('is told by its key, else by a link that it alone has, else by its title with its date', () => {
    expect(was([item(3), item(4)], [before(3)])).toEqual([
      ['g3', 'id3'],
      ['g4', null],
    ]);
    expect(was([item(3, { guid: 'changed' })], [before(3)])).toEqual([['changed', 'id3']]);
    expect(was([item(3, { guid: 'changed', link: 'https://moved.example/3' })], [before(3)])).toEqual([['changed', 'id3']]);
    // Of another title, elsewhere and under another GUID, it is another.
    expect(was([item(3, { guid: 'x', link: 'https://moved.example/3', title: 'New' })], [before(3)])).toEqual([['x', null]]);
  });
  it('a link that several share, or that is the front page, names none', () => {
    const shared = { link: 'https://lanternfish.example/3', title: 'Other', publishedAt: null };
    expect(was([item(5, shared), item(6, shared)], [before(3)]).map(([, id]) => id)).toEqual([null, null]);
    const front = { link: 'https://lanternfish.example/', title: 'Other', publishedAt: null };
    expect(was([item(5, front)], [before(3, { link: 'https://lanternfish.example/' })])).toEqual([['g5', null]]);
  });
  it('what still stands under its own key is not taken for another; each known one is one, each new one once', () => {
    const known = [before(3)];
    expect(was([item(3), item(9, { title: 'Post 3', publishedAt: before(3).publishedAt })], known)).toEqual([
      ['g3', 'id3'],
      ['g9', null],
    ]);
    expect(was([item(4), item(4)], [])).toEqual([['g4', null]]);
    fc.assert(
      fc.property(fc.array(fc.record({ guid: fc.nat(6), link: fc.nat(6), title: fc.nat(3) }), { maxLength: 20 }), (all) => {
        const items = all.map((one) =>
          item(1, { guid: `g${one.guid}`, link: `https://lanternfish.example/${one.link}`, title: `T${one.title}` }),
        );
        const found = recognise(
          items,
          [0, 1, 2, 3].map((n) => before(n)),
        );
        const ids = found.flatMap((one) => (one.known ? [one.known.id] : []));
        expect(new Set(ids).size).toBe(ids.length);
        expect(new Set(found.map((one) => one.key)).size).toBe(found.length);
      }),
    );
  });
  it('it was taken down where older ones still stand, and has only grown out of the feed where none do', () => {
    const known = [before(1), before(2), before(3), before(4, { publishedAt: null })];
    const gone = (items: FeedItem[]) => takenDown(known, recognise(items, known)).map((one) => one.id);
    expect(gone([item(1), item(3)])).toEqual(['id2']);
    expect(gone([item(3)])).toEqual([]);
    expect(gone([])).toEqual([]);
  });
});

describe('what is new to a rule', () => {
  const at = (date: string) => new Date(date);
  it.each<[string, Date | null, boolean, boolean]>([
    ['of a later date', at('2026-11-13T00:00:00Z'), false, true],
    ['dated by the day of switching on alone', at('2026-11-12T00:00:00Z'), false, true],
    ['of an older date, that turns up late', at('2026-11-01T00:00:00Z'), false, false],
    ['without a date', null, false, true],
    ['without a date, at the first reading', null, true, false],
    ['of an hour before, at the first reading', at('2026-11-12T08:00:00Z'), true, false],
    ['of a moment after, at the first reading', at('2026-11-12T09:00:01Z'), true, true],
  ])('one %s', (_, publishedAt, first, is) => {
    expect(isNewPost(publishedAt, ON, first)).toBe(is);
  });
});

describe('nextPoll', () => {
  it('backs off while a feed fails, up to six hours', () => {
    const waits = [0, 1, 2, 3, 20].map((failures) => (nextPoll(ON, 60_000, failures).getTime() - ON.getTime()) / 60_000);
    expect(waits).toEqual([1, 2, 4, 8, 360]);
  });
});
