import { describe, expect, it } from 'vitest';
import { FORM_WORDS } from '../forms/words';
import { choiceTexts, choiceWords } from './choice-words';
import { joined, PAGE_LANGUAGES, pageWords } from './page-words';

describe('what readers’ pages say', () => {
  it('is there in every language that forms speak, each sentence about what it is about', () => {
    expect(PAGE_LANGUAGES).toEqual(Object.keys(FORM_WORDS));
    for (const language of PAGE_LANGUAGES) {
      const words = pageWords(language, 'A $& B');
      for (const key of ['thanks', 'oneClick', 'also', 'noMore', 'still', 'comesAgain'] as const)
        expect([language, key, words[key]]).toEqual([language, key, expect.stringContaining('A $& B')]);
      expect(Object.values(words).join()).not.toContain('LABEL');
      if (language !== 'en') expect(words.left).not.toBe(pageWords('en', '').left);
    }
    expect(pageWords('xx', 'X')).toEqual(pageWords('en', 'X'));
  });
  it('is there for what readers choose too', () => {
    expect(
      choiceTexts()
        .map(([language]) => language)
        .toSorted(),
    ).toEqual(PAGE_LANGUAGES.toSorted());
    const own = choiceWords('en', 'A $& B');
    expect(new Set(choiceTexts().map(([, many]) => many))).toEqual(new Set([Object.keys(own).length]));
    for (const language of PAGE_LANGUAGES) {
      const words = choiceWords(language, 'A $& B');
      for (const key of ['paused', 'ownWords', 'ownSent', 'ownHeld', 'moveAsked', 'moved'] as const)
        expect([language, key, words[key]]).toEqual([language, key, expect.stringContaining('A $& B')]);
      expect(Object.values(words).join()).not.toContain('LABEL');
      if (language !== 'en')
        for (const [key, text] of Object.entries(words))
          expect([language, key, text]).not.toEqual([language, key, own[key as keyof typeof own]]);
    }
  });
  it('joins names as the language does', () => {
    expect([joined(['a', 'b'], 'en'), joined(['a', 'b'], 'de'), joined([], 'fr')]).toEqual(['a and b', 'a und b', '']);
  });
});
