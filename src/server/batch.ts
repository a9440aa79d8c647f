import { isAway } from './db/connection';

type Waiting<In, Out> = { item: In; key: string; resolve: (out: Out) => void; reject: (error: unknown) => void };
type Options<In> = {
  /** Most items worked together. */
  most?: number;
  /** How many batches may be worked at the same time. */
  lanes?: number;
  /** Items with the same key are worked one after the other, in the order in which they came. */
  keyOf?: (item: In) => string;
};

/**
 * Group commit: what comes alone is worked at once; what comes while something is worked is worked together next, so that a crowd
 * costs one round of statements and one commit. `run` gets the items and returns one result each, in order. Where a batch fails for
 * any other reason than the database being away, each of its items is tried alone, so that one bad item spoils only itself.
 */
export class Batch<In, Out> {
  readonly #queue: Waiting<In, Out>[] = [];
  readonly #most: number;
  readonly #keyOf: ((item: In) => string) | undefined;
  readonly #lanes: number;
  readonly #underWay = new Set<string>();
  #busy = 0;
  #count = 0;

  constructor(
    private readonly run: (items: In[]) => Promise<Out[]>,
    { most = 100, lanes = 1, keyOf }: Options<In> = {},
  ) {
    this.#most = most;
    this.#lanes = lanes;
    this.#keyOf = keyOf;
  }

  /** One item's result, once the batch it went with is done. */
  add(item: In): Promise<Out> {
    return new Promise((resolve, reject) => {
      this.#count += 1;
      this.#queue.push({ item, key: this.#keyOf?.(item) ?? String(this.#count), resolve, reject });
      if (this.#busy < this.#lanes) void this.#work();
    });
  }

  async #work(): Promise<void> {
    this.#busy += 1;
    for (let batch = this.#take(); batch.length; batch = this.#take()) {
      try {
        await this.#settle(batch);
      } catch (error) {
        if (batch.length === 1 || isAway(error)) for (const one of batch) one.reject(error);
        else for (const one of batch) await this.#settle([one]).catch(one.reject);
      }
      for (const one of batch) this.#underWay.delete(one.key);
    }
    this.#busy -= 1;
  }

  async #settle(batch: Waiting<In, Out>[]): Promise<void> {
    const results = await this.run(batch.map((one) => one.item));
    batch.forEach((one, n) => {
      one.resolve(results[n]!);
    });
  }

  #take(): Waiting<In, Out>[] {
    const taken: Waiting<In, Out>[] = [];
    const held = new Set<string>();
    for (let n = 0; n < this.#queue.length && taken.length < this.#most; ) {
      const one = this.#queue[n]!;
      if (this.#underWay.has(one.key) || held.has(one.key)) {
        held.add(one.key);
        n += 1;
        continue;
      }
      this.#underWay.add(one.key);
      taken.push(one);
      this.#queue.splice(n, 1);
    }
    return taken;
  }
}
