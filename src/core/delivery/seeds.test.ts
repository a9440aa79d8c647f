import { describe, expect, it } from 'vitest';
import { isPlace, landedWords, type Place, placeByProvider } from './seeds';

const landed = (...places: (Place | null)[]) => landedWords(places.map((place) => ({ place })));

describe('where a test landed', () => {
  it.each([
    [landed(), 'It went to no box.'],
    [landed(null, null), 'Look into each box and say where it lay.'],
    [landed('inbox', 'inbox', 'junk'), 'Of 3: 2 in the inbox, 1 in junk.'],
    [landed('aside', 'nowhere', null), 'Of 3: 1 beside it, 1 not found, 1 not said yet.'],
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
  it('is the worst of several boxes at one provider', () => {
    expect([
      ...placeByProvider([
        { address: 'a@heronmail.example', place: 'junk' },
        { address: 'b@heronmail.example', place: 'inbox' },
        { address: 'c@kestrel.example', place: 'inbox' },
        { address: 'd@fjordbox.example', place: null },
      ]),
    ]).toEqual([
      ['heronmail.example', 'junk'],
      ['kestrel.example', 'inbox'],
    ]);
  });
});
