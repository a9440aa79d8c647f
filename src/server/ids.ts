import { randomBytes } from 'node:crypto';
import { v7 } from 'uuid';

/** A new key: UUIDv7, so that neighbours in time are neighbours in the index. */
export const newId = (): string => v7();

/** Very many new ones at once, for one question to the source of chance. */
export function newIds(many: number): string[] {
  const chance = randomBytes(many * 16);
  return Array.from({ length: many }, (_, n) => v7({ random: chance.subarray(n * 16, n * 16 + 16) }));
}
