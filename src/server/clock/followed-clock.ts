import type { Clock } from './clock';

type Reading = { offsetMs: number; version: number };

/**
 * A clock at another address (the Backlot's): the machine's time plus an offset that is learnt by long polling
 * `GET /now?after=VERSION`, which answers when the offset changes. While the other side is away, the last offset holds.
 */
export class FollowedClock implements Clock {
  #offset = 0;
  #version = -1;
  #listeners = new Set<() => void>();
  #stop = new AbortController();

  constructor(private readonly url: string) {}

  /** Reads the clock once and follows it from then on. Rejects if the first reading fails. */
  async start(): Promise<this> {
    await this.#read();
    void this.#follow();
    return this;
  }

  now(): Date {
    return new Date(Date.now() + this.#offset);
  }
  onMoved(listener: () => void): () => void {
    this.#listeners.add(listener);
    return () => this.#listeners.delete(listener);
  }
  close(): void {
    this.#stop.abort();
  }

  async #read(): Promise<void> {
    const response = await fetch(`${this.url}/now?after=${this.#version}`, {
      signal: AbortSignal.any([this.#stop.signal, AbortSignal.timeout(40_000)]),
    });
    const reading = (await response.json()) as Reading;
    const moved = reading.version !== this.#version;
    this.#offset = reading.offsetMs;
    this.#version = reading.version;
    if (moved) for (const listener of this.#listeners) listener();
  }

  async #follow(): Promise<void> {
    while (!this.#stop.signal.aborted) {
      try {
        await this.#read();
      } catch {
        if (this.#stop.signal.aborted) return;
        await new Promise((resolve) => setTimeout(resolve, 500).unref());
      }
    }
  }
}
