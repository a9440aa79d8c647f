import type { Condition } from './condition';

/** A condition in which one tag bears another name. */
export function withTagRenamed(condition: Condition, from: string, to: string): Condition {
  if ('of' in condition) return { ...condition, of: condition.of.map((one) => withTagRenamed(one, from, to)) };
  return condition.kind === 'tag' && condition.tag === from ? { ...condition, tag: to } : condition;
}
