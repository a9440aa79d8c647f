/** A whole number with thousands separators. */
export const figure = (value: number) => new Intl.NumberFormat('en-GB').format(value);

/** A share as a percentage: one decimal below 20 and close to 100, where it matters, else none; an en dash where there is nothing to divide by. */
export function percent(part: number, whole: number): string {
  if (whole <= 0) return '–';
  const share = (100 * part) / whole;
  const fine = (share > 0 && share < 20) || (share > 95 && share < 100);
  return `${share.toFixed(fine ? 1 : 0)}%`;
}

/** "1 person", "2 people": the number and the right form of its word. */
export const counted = (value: number, one: string, many: string) => `${figure(value)} ${value === 1 ? one : many}`;
