/** One measured figure with the yardstick of the same run. `aim` is what we want; missing it is said, never hidden. */
export type Figure = {
  name: string;
  value: number;
  unit: string;
  yardstick: string;
  yardstickValue: number;
  /** The least that the ratio to the yardstick may be, or the most that the value itself may be. */
  aim: { ratioAtLeast: number } | { atMost: number };
};

/** A figure as a line for the terminal and for docs/measures.md. */
export function line({ name, value, unit, yardstick, yardstickValue, aim }: Figure): string {
  const ratio = value / yardstickValue;
  const round = (number: number) => new Intl.NumberFormat('en-GB', { maximumFractionDigits: number < 10 ? 2 : 0 }).format(number);
  const [wanted, met] =
    'atMost' in aim
      ? [`at most ${round(aim.atMost)} ${unit}`, value <= aim.atMost]
      : [`${round(aim.ratioAtLeast)} times`, ratio >= aim.ratioAtLeast];
  return `${name}: ${round(value)} ${unit}, ${ratio.toFixed(2)} times the ${yardstick} (${round(yardstickValue)}); aim ${wanted}, ${met ? 'met' : 'NOT MET'}`;
}

/** What nineteen of twenty runs of a work stay under, in milliseconds, one after the other. */
export async function p95(work: () => Promise<unknown>, runs: number): Promise<number> {
  const times: number[] = [];
  for (let n = 0; n < runs; n += 1) {
    const began = performance.now();
    await work();
    times.push(performance.now() - began);
  }
  return times.sort((a, b) => a - b)[Math.floor(runs * 0.95)]!;
}

/** The middle one of some values. */
export const median = (all: readonly number[]): number => [...all].sort((a, b) => a - b)[Math.floor(all.length / 2)]!;
