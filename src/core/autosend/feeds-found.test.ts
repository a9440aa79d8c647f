import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { describe, expect, it } from 'vitest';
import type { Fault } from '../faults';
import { documentSchema } from '../writing/schemas';
import { readFeedDocument } from './feed';
import { itemKey, wordsOf } from './items';

/** Feeds as generators make them and as people write them by hand: see the README there. What each says was looked at by eye. */
const FOLDER = join(import.meta.dirname, '../../../tests/data/feeds');
const expected = JSON.parse(readFileSync(join(FOLDER, 'expected.json'), 'utf8')) as Record<string, unknown>;
const files = readdirSync(FOLDER).filter((name) => !['expected.json', 'README.md'].includes(name));

function said(name: string): unknown {
  const bytes = readFileSync(join(FOLDER, name));
  try {
    const feed = readFeedDocument(bytes, null, 'https://saltpan.example/feed', 'Europe/Lisbon');
    for (const { document } of feed.items) expect(documentSchema.validate(document).error).toBeUndefined();
    // Read once more it is the same, post by post.
    const again = readFeedDocument(bytes, null, 'https://saltpan.example/feed', 'Europe/Lisbon');
    expect(again.items.map(itemKey)).toEqual(feed.items.map(itemKey));
    return {
      title: feed.title,
      ...(feed.hub ? { hub: feed.hub } : {}),
      ...(feed.cut ? { cut: true } : {}),
      items: feed.items.map(({ guid, link, title, publishedAt, topics, author, summary, document, picture }) => ({
        guid,
        link,
        title,
        publishedAt: publishedAt?.toISOString() ?? null,
        topics,
        author,
        summary,
        nodes: document?.nodes.map(({ kind }) => kind).join(' '),
        words: document && wordsOf(document),
        picture,
      })),
    };
  } catch (error) {
    const { sentence } = error as Fault;
    if (!sentence) throw error;
    return { fault: sentence };
  }
}

describe('feeds as they are found', () => {
  it('have all been looked at', () => {
    expect(files.toSorted()).toEqual(Object.keys(expected).toSorted());
  });
  it.each(files)('%s', (name) => {
    expect(said(name)).toEqual(expected[name]);
  });
});
