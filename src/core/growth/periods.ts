/** The spans of days that screens look back over. */
export const PERIODS = { 28: '28 days', 90: '90 days', 365: 'a year' } as const;
export type Period = keyof typeof PERIODS;

/** The span that an address asks for, else the usual one of its screen. */
export const periodOf = (asked: string | undefined, usual: Period): Period =>
  Number(asked) in PERIODS ? (Number(asked) as Period) : usual;
