import { expect, it } from 'vitest';
import { inTurn } from './in-turn';

it('what takes long is done one after the other, and not at all for who has gone', async () => {
  const done: string[] = [];
  let open = () => {};
  const first = inTurn('a', new AbortController().signal, async () => {
    await new Promise<void>((resolve) => {
      open = resolve;
    });
    done.push('first');
    throw new Error('broken');
  });
  const leaves = new AbortController();
  const second = inTurn('a', leaves.signal, async () => done.push('second'));
  const third = inTurn('a', new AbortController().signal, async () => done.push('third'));
  // Another key waits for nobody.
  await inTurn('b', new AbortController().signal, async () => done.push('other'));
  leaves.abort();
  open();
  await expect(first).rejects.toThrow('broken');
  await expect(second).rejects.toMatchObject({ code: 'unavailable' });
  await third;
  expect(done).toEqual(['other', 'first', 'third']);
});
