import { Fault } from '@/core/faults';

const last = new Map<string, Promise<unknown>>();

/**
 * Does what takes the database long one after the other for each key, within this process, so that somebody who changes their mind ten times does not have it
 * worked out ten times at once. Whoever has gone by the time it is their turn is passed by. Throws what the work throws, and "unavailable" for who has gone.
 */
export async function inTurn<T>(key: string, gone: AbortSignal, work: () => Promise<T>): Promise<T> {
  const before = last.get(key) ?? Promise.resolve();
  const mine = before
    .catch(() => undefined)
    .then(() => {
      if (gone.aborted) throw new Fault('unavailable', 'Nobody waits for this any more.');
      return work();
    });
  last.set(key, mine);
  try {
    return await mine;
  } finally {
    if (last.get(key) === mine) last.delete(key);
  }
}
