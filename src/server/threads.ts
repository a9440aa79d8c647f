import { join } from 'node:path';
import { Worker } from 'node:worker_threads';
import { Fault, type FaultCode } from '@/core/faults';

/** What a thread says of a task: what it made of it, as JSON, or why nothing. */
export type ThreadAnswer = { made: string } | { fault: { code: FaultCode; sentence: string } };

/** Where a thread's file lies, bundled (`cli/build`). Said apart from where it is begun: what builds the pages would make a thread of its own of it. */
export const bundled = (name: string): string => join(process.cwd(), 'dist', name);

/**
 * Threads that take tasks apart from the process, each for so long and in so much memory and no more, whatever it is made of; of several tasks at once only a few
 * are worked, the others wait their turn. What is made comes as JSON: many small objects take twice as long to clone as to write and read.
 */
export class Threads<Task> {
  /** Those that wait for work: starting one takes as long as many a task. */
  readonly #idle: Worker[] = [];
  readonly #waiting: (() => void)[] = [];
  #busy = 0;

  constructor(
    private readonly path: string,
    private readonly limits: { threads: number; seconds: number; megabytes: number },
  ) {}

  /** What a thread made of a task. Throws the fault that it says, or `tooMuch`, a sentence, where it takes too long or too much memory. */
  async run(task: Task, tooMuch: string): Promise<string> {
    if (this.#busy >= this.limits.threads) await new Promise<void>((resolve) => this.#waiting.push(resolve));
    this.#busy += 1;
    try {
      return await this.#onThread(task, tooMuch);
    } finally {
      this.#busy -= 1;
      this.#waiting.shift()?.();
    }
  }

  #take(): Worker {
    const idle = this.#idle.pop();
    if (idle) return idle;
    const thread = new Worker(this.path, {
      resourceLimits: { maxOldGenerationSizeMb: this.limits.megabytes },
    });
    // It keeps no process alive that has nothing else to do; and one that dies idle, or while it is being ended, takes nobody with it.
    thread.unref();
    thread.on('error', () => undefined);
    thread.on('exit', () => {
      const at = this.#idle.indexOf(thread);
      if (at >= 0) this.#idle.splice(at, 1);
    });
    return thread;
  }

  #onThread(task: Task, tooMuch: string): Promise<string> {
    return new Promise((resolve, reject) => {
      const thread = this.#take();
      const end = (report: () => void, kept: boolean) => {
        clearTimeout(timer);
        // By name: a thread has listeners of its own, without which it hears nothing.
        thread.off('message', answered);
        thread.off('error', failed);
        thread.off('exit', failed);
        // One that failed, or would not end, is not used again.
        if (kept) this.#idle.push(thread);
        else void thread.terminate();
        report();
      };
      const answered = (said: ThreadAnswer) =>
        end(() => ('made' in said ? resolve(said.made) : reject(new Fault(said.fault.code, said.fault.sentence))), true);
      const failed = () => end(() => reject(new Fault('invalid', tooMuch)), false);
      const timer = setTimeout(failed, this.limits.seconds * 1_000);
      thread.on('message', answered);
      thread.on('error', failed);
      thread.on('exit', failed);
      thread.postMessage(task);
    });
  }
}
