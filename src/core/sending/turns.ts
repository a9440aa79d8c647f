/** A letter that waits on a route. `turn` is its virtual time there: what it has been given so far, weighed. */
export type Waiting = { letterId: string; newsletterId: string; turn: number };
export type Share = { letterId: string; count: number; turn: number };

/** So many deliveries in a row before the next letter's turn. */
export const STRIDE = 10;

/**
 * Deals `room` deliveries of one route out among the letters that wait there: always to the one that has been given least, by tens. A newsletter
 * with several letters counts each of them so many times, so that newsletters share alike, however many letters they have; a small letter is done
 * after a few rounds, whatever else waits (start-time fair queueing). The shares may be more than a letter still has. Stable for equal turns.
 */
export function dealTurns(waiting: Waiting[], room: number): Share[] {
  const letters = new Map<string, number>();
  for (const { newsletterId } of waiting) letters.set(newsletterId, (letters.get(newsletterId) ?? 0) + 1);
  const heap = waiting.map((one) => ({ ...one, weight: letters.get(one.newsletterId)!, count: 0 }));
  for (let left = room; left > 0 && heap.length > 0; ) {
    let least = heap[0]!;
    for (const one of heap) if (one.turn < least.turn) least = one;
    const count = Math.min(STRIDE, left);
    least.count += count;
    least.turn += count * least.weight;
    left -= count;
  }
  return heap.filter(({ count }) => count > 0).map(({ letterId, count, turn }) => ({ letterId, count, turn }));
}
