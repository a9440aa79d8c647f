/** One measured figure with the yardstick of the same run. `aim` is the ratio we want; missing it is said, never hidden. */
export type Figure = {
  name: string;
  value: number;
  unit: string;
  yardstick: string;
  yardstickValue: number;
  aim: number /** True where less is better: the aim is then the most the ratio may be. */;
  less?: boolean;
};

/** A figure as a line for the terminal and for docs/measures.md. */
export function line(figure: Figure): string {
  const ratio = figure.value / figure.yardstickValue;
  const round = (value: number) => new Intl.NumberFormat('en-GB', { maximumFractionDigits: value < 10 ? 2 : 0 }).format(value);
  return `${figure.name}: ${round(figure.value)} ${figure.unit}, ${ratio.toFixed(2)} times the ${figure.yardstick} (${round(figure.yardstickValue)}); aim ${round(figure.aim)}${figure.less ? ' or less' : ''}, ${(figure.less ? ratio <= figure.aim : ratio >= figure.aim) ? 'met' : 'NOT MET'}`;
}
