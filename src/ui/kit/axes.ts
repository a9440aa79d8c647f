type Token = (name: string) => string;

/** The axis of a drawing along which days, weeks or hours stand. */
export const alongAxis = (token: Token, data: string[]) => ({
  type: 'category' as const,
  data,
  axisTick: { show: false },
  axisLine: { lineStyle: { color: token('--ink-3') } },
  axisLabel: { color: token('--ink-2'), fontFamily: 'inherit', hideOverlap: true },
});

/** The axis of a drawing on which its values are read off. */
export const valueAxis = (token: Token, formatter: string | ((value: number) => string)) => ({
  type: 'value' as const,
  axisLabel: { color: token('--ink-2'), fontFamily: 'inherit', formatter },
  splitLine: { lineStyle: { color: token('--rule-2') } },
});
