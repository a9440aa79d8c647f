import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { merged, type Stands, withListReplaced } from './merging';

const ALL: Stands[] = ['reading', 'waiting', 'left', 'taken off', null];

describe('a list that goes into another', () => {
  it.each<[Stands, Stands, ReturnType<typeof merged>]>([
    ['reading', null, 'reading'],
    ['waiting', null, 'waiting'],
    ['left', null, 'left'],
    ['reading', 'left', 'left'],
    ['left', 'reading', 'reading'],
    ['reading', 'waiting', 'reading'],
    ['waiting', 'reading', 'reading'],
    ['reading', 'taken off', 'reading'],
    ['taken off', null, null],
    ['taken off', 'taken off', 'left'],
    ['left', 'taken off', 'left'],
    [null, null, null],
  ])('%s and %s make %s', (from, into, wanted) => expect(merged(from, into)).toBe(wanted));
  it('never brings back who left the one that stays, and lets nobody read who read neither', () => {
    fc.assert(
      fc.property(fc.constantFrom(...ALL), fc.constantFrom(...ALL), (from, into) => {
        if (into === 'left') expect(merged(from, into)).toBe('left');
        if (from !== 'reading' && into !== 'reading') expect(merged(from, into)).not.toBe('reading');
      }),
    );
  });
  it('is named instead wherever it was named', () => {
    expect(withListReplaced({ kind: 'list', id: 'a-1', of: ['a-1', 'b-2'] }, 'a-1', 'b-2')).toEqual({
      kind: 'list',
      id: 'b-2',
      of: ['b-2', 'b-2'],
    });
  });
});
