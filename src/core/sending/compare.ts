import { CURVE_HOURS, median, type ReadRange } from './result';

/** A letter that has left, with what became of it; null for what was not counted. */
export type ComparedLetter = {
  id: string;
  subject: string;
  at: Date;
  recipients: number;
  delivered: number;
  read: ReadRange | null;
  clicked: number | null;
  left: number;
  complained: number;
  back: number;
  /** Is it another letter once more, or was it tried in versions? */
  again: boolean;
  versions: number;
};

export const SORTS = ['sent', 'subject', 'delivered', 'read', 'clicked', 'left', 'back', 'complained'] as const;
export type Sort = (typeof SORTS)[number];

/** Has it had its first two days, in which nearly everybody reads who will? */
export const isSettled = (letter: ComparedLetter, now: Date): boolean =>
  now.getTime() - letter.at.getTime() >= CURVE_HOURS * 3_600_000;

const share = (n: number | null, whole: number) => (n === null || whole === 0 ? -1 : n / whole);
const VALUE: Record<Exclude<Sort, 'subject'>, (letter: ComparedLetter) => number> = {
  sent: (letter) => letter.at.getTime(),
  delivered: (letter) => letter.delivered,
  read: (letter) => share(letter.read?.least ?? null, letter.delivered),
  clicked: (letter) => share(letter.clicked, letter.delivered),
  left: (letter) => letter.left,
  back: (letter) => letter.back,
  complained: (letter) => letter.complained,
};

/** Letters in an order: the largest first, or the smallest; what was not counted always stands last. */
export function sorted(letters: readonly ComparedLetter[], by: Sort, up: boolean): ComparedLetter[] {
  if (by === 'subject') return [...letters].sort((a, b) => a.subject.localeCompare(b.subject, 'en-GB') * (up ? -1 : 1));
  const value = VALUE[by];
  return [...letters].sort((a, b) => {
    const [x, y] = [value(a), value(b)];
    if (x < 0 || y < 0) return x < 0 && y < 0 ? 0 : x < 0 ? 1 : -1;
    return up ? x - y : y - x;
  });
}

/** Of letters that had their two days: the share of those who got one that read it, and that clicked, of the middle one. */
export function middleOf(settled: readonly ComparedLetter[]): { read: number; clicked: number } {
  const shares = (of: (letter: ComparedLetter) => number | null) =>
    settled.flatMap((letter) => {
      const n = of(letter);
      return n === null || letter.delivered === 0 ? [] : [n / letter.delivered];
    });
  return { read: median(shares((one) => one.read?.least ?? null)), clicked: median(shares((one) => one.clicked)) };
}
