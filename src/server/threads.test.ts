import { mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { Threads } from './threads';

let folder: string;
let path: string;
/** A thread that does as it is told. */
const SCRIPT = `
import { parentPort } from 'node:worker_threads';
const say = (made) => parentPort.postMessage({ made });
let told = 0;
parentPort.on('message', (task) => {
  told += 1;
  if (task === 'answer') say(String(told));
  if (task === 'refuse') parentPort.postMessage({ fault: { code: 'invalid', sentence: 'No.' } });
  if (task === 'throw') throw new Error('on purpose');
  if (task === 'go') process.exit(0);
  if (task === 'throw later') { say('soon'); setTimeout(() => { throw new Error('on purpose'); }, 5); }
  if (task === 'for ever') for (;;);
  if (task === 'grow') { const all = []; for (;;) all.push(new Array(1000).fill(all.length)); }
});`;
beforeAll(() => {
  folder = mkdtempSync(join(tmpdir(), 'inkset-threads-'));
  path = join(folder, 'thread.mjs');
  writeFileSync(path, SCRIPT);
});
afterAll(() => rmSync(folder, { recursive: true, force: true }));

describe('threads', () => {
  const threads = (seconds = 20, megabytes = 64, most = 2) => new Threads<string>(path, { threads: most, seconds, megabytes });

  it('are used again, and say what they made, or why nothing', async () => {
    const some = threads();
    expect(await some.run('answer', 'Too much.')).toBe('1');
    await expect(some.run('refuse', 'Too much.')).rejects.toMatchObject({ code: 'invalid', sentence: 'No.' });
    expect(await some.run('answer', 'Too much.')).toBe('3');
  });

  it.each(['throw', 'go', 'grow'])('of which one ends with its task (%s) cost that task alone', async (task) => {
    const some = threads();
    await expect(some.run(task, 'Too much.')).rejects.toMatchObject({ sentence: 'Too much.' });
    expect(await some.run('answer', 'Too much.')).toBe('1');
  });

  it('of which one never ends, or runs out of memory just as it is ended, are given up on', async () => {
    const some = threads(0.05);
    const worked = ['for ever', 'grow', 'grow', 'for ever', 'grow', 'grow'].map((task) =>
      some.run(task, 'Too much.').catch(({ sentence }) => sentence),
    );
    expect(await Promise.all(worked)).toEqual(worked.map(() => 'Too much.'));
    expect(await threads().run('answer', 'Too much.')).toBe('1');
  });

  it('of which one dies while nobody needs it are replaced', async () => {
    const some = threads();
    expect(await some.run('throw later', 'Too much.')).toBe('soon');
    await expect.poll(() => some.run('answer', 'Too much.').catch(() => 'it died'), { timeout: 20_000, interval: 20 }).toBe('1');
  });
});
