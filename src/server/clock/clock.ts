/** Where every use case takes the time from. `onMoved` tells of jumps, so that due work need not wait for the next tick. */
export interface Clock {
  now(): Date;
  onMoved(listener: () => void): () => void;
}

/** The machine's time. */
export const systemClock: Clock = { now: () => new Date(), onMoved: () => () => {} };

/** A context whose clock stands: what is done in one portion is done in one moment, and is known by it. */
export function atOneMoment<C extends { clock: Clock }>(ctx: C): C {
  const now = ctx.clock.now();
  return { ...ctx, clock: { now: () => now, onMoved: (listener: () => void) => ctx.clock.onMoved(listener) } };
}

/** A clock that moves only when told to: for tests. */
export class ManualClock implements Clock {
  #listeners = new Set<() => void>();
  constructor(private at: Date) {}
  now(): Date {
    return new Date(this.at);
  }
  /** Moves the clock forward. */
  advance(ms: number): void {
    this.at = new Date(this.at.getTime() + ms);
    for (const listener of this.#listeners) listener();
  }
  onMoved(listener: () => void): () => void {
    this.#listeners.add(listener);
    return () => this.#listeners.delete(listener);
  }
}
