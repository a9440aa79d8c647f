/** A whole number with thousands separators. */
export const figure = (value: number) => new Intl.NumberFormat('en-GB').format(value);

/**
 * A share as a percentage with one decimal, the one rule for all rates: never 0 % of some and never 100 % of not all; an en dash where there is
 * nothing to divide by, or where the whole is not known to the last (a form as plain HTML does not tell how often it was shown).
 */
export function percent(part: number, whole: number): string {
  if (whole <= 0 || part > whole) return '–';
  if (part <= 0) return '0%';
  if (part === whole) return '100%';
  const share = (100 * part) / whole;
  if (share < 0.05) return 'under 0.1%';
  return `${share > 99.9 ? '99.9' : share.toFixed(1)}%`;
}

const PLURAL = new Intl.PluralRules('en-GB');
/** The right form of a word for a number of things (CLDR's plural rules). */
export const plural = (value: number, one: string, many: string) => (PLURAL.select(value) === 'one' ? one : many);

/** "1 person", "2 people": the number and the right form of its word. */
export const counted = (value: number, one: string, many: string) => `${figure(value)} ${plural(value, one, many)}`;

const LIST = new Intl.ListFormat('en-GB', { type: 'conjunction' });
/** "a", "a and b", "a, b and c"; beyond `most` the rest is counted. */
export function together(names: readonly string[], most = 3): string {
  if (names.length <= most) return LIST.format(names);
  return LIST.format([...names.slice(0, most - 1), counted(names.length - most + 1, 'more', 'more')]);
}
