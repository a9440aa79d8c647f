import { diffChars, diffWordsWithSpace } from 'diff';

/** A run of characters that both texts share, or that only one has. */
export type Run = { text: string; mark: 'same' | 'added' | 'removed' };

/**
 * The difference from `found` to `wanted`, letter by letter for short values and word by word for long ones (a key of 400
 * letters marked by single letters cannot be read).
 */
export function difference(found: string, wanted: string): Run[] {
  const runs = found.length + wanted.length > 400 ? diffWordsWithSpace(found, wanted) : diffChars(found, wanted);
  return runs.map((run) => ({ text: run.value, mark: run.added ? 'added' : run.removed ? 'removed' : 'same' }));
}
