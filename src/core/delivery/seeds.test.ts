import { describe, expect, it } from 'vitest';
import { isPlace, landedWords, type Place, placesNow } from './seeds';

const landed = (...places: (Place | null | 'not taken')[]) =>
  landedWords(
    places.map((one) => (one === 'not taken' ? { mail: one, place: null } : { mail: 'delivered' as const, place: one })),
  );

describe('where a test landed', () => {
  it.each([
    [landed(), 'It went to no box.'],
    [landed(null, null), 'Look into each box and say where it lay.'],
    [landed('inbox', 'inbox', 'junk'), 'Of 3: 2 in the inbox, 1 in junk.'],
    [landed('aside', 'nowhere', null), 'Of 3: 1 beside it, 1 not found, 1 not said yet.'],
    [landed('inbox', 'not taken'), 'Of 2: 1 in the inbox, 1 not taken.'],
    [landed('not taken'), 'Of 1: 1 not taken.'],
  ])('%s', (words, expected) => {
    expect(words).toBe(expected);
  });
  it('is one of four places', () => {
    expect(['inbox', 'junk', 'x', '', null, 'constructor', 3].map(isPlace)).toEqual([
      true,
      true,
      false,
      false,
      false,
      false,
      false,
    ]);
  });
  it('is the worst of several boxes at one provider, for as long as that says something', () => {
    const at = new Date('2026-11-24T09:00:00Z');
    const copies = [
      { address: 'a@heronmail.example', place: 'junk' as const },
      { address: 'b@heronmail.example', place: 'inbox' as const },
      { address: 'c@kestrel.example', place: 'inbox' as const },
      { address: 'd@fjordbox.example', place: null },
    ];
    expect([...placesNow({ at, copies }, at)]).toEqual([
      ['heronmail.example', 'junk'],
      ['kestrel.example', 'inbox'],
    ]);
    expect(placesNow({ at, copies }, new Date('2026-12-24T09:00:00Z')).size).toBe(0);
    expect(placesNow(undefined, at).size).toBe(0);
  });
});
