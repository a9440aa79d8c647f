import { describe, expect, it } from 'vitest';
import { differencesOf, nearEachOther } from './last-look';
import { audienceWords, partWords } from './tell-audience';

const now = new Date('2026-11-24T09:00:00Z');
const former = { subject: 'The lamp-fish census', at: new Date('2026-11-17T09:00:00Z'), recipients: 1_000, lists: ['Everyone'] };
const usual = { will: 1_010, lists: ['Everyone'], former, same: null, meetings: [], now, zone: 'Europe/Lisbon' };
const titles = (more: Partial<Parameters<typeof differencesOf>[0]>) =>
  differencesOf({ ...usual, ...more }).map((one) => one.title);

describe('what is unusual about a letter', () => {
  it('is nothing where it is like the last, or the first of all', () => {
    expect(titles({})).toEqual([]);
    expect(titles({ former: null, will: 3 })).toEqual([]);
  });
  it('is more than half more, or fewer', () => {
    expect(titles({ will: 1_500 })).toEqual([]);
    expect(titles({ will: 1_501 })).toEqual(['1,501 people this time, 1,000 the last']);
    expect(titles({ will: 499 })).toEqual(['499 people this time, 1,000 the last']);
    expect(titles({ will: 1 })).toEqual(['1 person this time, 1,000 the last']);
    // Of nobody there is no half.
    expect(titles({ former: { ...former, recipients: 0 }, will: 40 })).toEqual([]);
  });
  it('is another list, said both ways', () => {
    const [found] = differencesOf({ ...usual, lists: ['Field notes'] });
    expect(found).toEqual({
      title: 'Not the lists of the last letter',
      words: 'It goes to “Field notes”, which the last one did not. It does not go to “Everyone”, which the last one did.',
    });
    // The last one was for a segment: there is nothing to hold it against.
    expect(titles({ former: { ...former, lists: [] } })).toEqual([]);
  });
  it('is the same words again, and two letters within a day', () => {
    expect(titles({ same: { subject: 'The lamp-fish census', at: former.at } })).toEqual(['These words were sent lately']);
    const meeting = { id: 'x', subject: 'Notes', at: new Date('2026-11-24T18:00:00Z'), both: 1 };
    const [met] = differencesOf({ ...usual, meetings: [meeting] });
    expect(met).toEqual({ title: '1 person gets two letters within a day', words: '“Notes” leaves today 18:00.' });
    const before = { ...meeting, at: new Date('2026-11-23T18:00:00Z'), both: 5 };
    expect(differencesOf({ ...usual, meetings: [before] })[0]?.words).toBe('“Notes” left yesterday 18:00.');
  });
});

describe('letters near each other', () => {
  const letter = (id: string, hours: number, ...lists: string[]) => ({
    id,
    at: new Date(now.getTime() + hours * 3_600_000),
    audience: { to: lists.map((list) => ({ kind: 'list' as const, id: list })), without: [] },
  });
  it('are those within a day to one of the same lists', () => {
    expect([
      ...nearEachOther([letter('a', 0, 'x'), letter('b', 23, 'y', 'x'), letter('c', 47.5, 'z'), letter('d', 48, 'x')]),
    ]).toEqual(['a', 'b']);
    expect(nearEachOther([letter('a', 0, 'x'), letter('b', 24, 'x')]).size).toBe(0);
    expect(nearEachOther([letter('a', 0), letter('b', 1)]).size).toBe(0);
  });
});

describe('an audience in words', () => {
  const names = {
    lists: { a: 'Everyone' },
    segments: { s: 'Warm ones' },
    forms: {},
    imports: {},
    fields: {},
    letters: {},
  };
  it('reads aloud, with what is gone named so', () => {
    expect(
      audienceWords(
        {
          to: [
            { kind: 'list', id: 'a' },
            { kind: 'tag', tag: 'pier' },
            { kind: 'those', condition: { kind: 'read within', days: 30 } },
          ],
          without: [{ kind: 'segment', id: 's' }],
        },
        names,
        {},
      ),
    ).toBe(
      'everyone who reads “Everyone”, and everyone tagged “pier”, and people who read a letter in the last 30 days, but not the segment “Warm ones”',
    );
    expect(partWords({ kind: 'list', id: 'gone' }, names, {})).toBe('everyone who reads a list that was deleted');
    expect(partWords({ kind: 'readers', ids: ['1'] }, names, { 1: 'ada@heronmail.example' })).toBe('ada@heronmail.example');
    expect(partWords({ kind: 'readers', ids: [] }, names, {})).toBe('people yet to be named');
    expect(partWords({ kind: 'readers', ids: ['1', '2'] }, names, { 1: 'ada@heronmail.example' })).toBe('2 people');
  });
});
