import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { Batch } from './batch';

/** A batch whose runs end when they are told to. */
function held(options: ConstructorParameters<typeof Batch<string, string>>[1] = {}) {
  const runs: { items: string[]; end: (error?: unknown) => void }[] = [];
  const batch = new Batch<string, string>(
    (items) =>
      new Promise((resolve, reject) => {
        const end = (error?: unknown) => (error ? reject(error) : resolve(items.map((item) => `${item}!`)));
        runs.push({ items, end });
      }),
    options,
  );
  const turn = () => new Promise((resolve) => setImmediate(resolve));
  return { batch, runs, turn };
}
const away = Object.assign(new Error('gone'), { code: 'ECONNREFUSED' });

describe('a batch', () => {
  it('works at once what comes alone, and together what comes meanwhile', async () => {
    const { batch, runs, turn } = held();
    const first = batch.add('a');
    const rest = ['b', 'c', 'd'].map((item) => batch.add(item));
    expect(runs.map((run) => run.items)).toEqual([['a']]);
    runs[0]!.end();
    expect(await first).toBe('a!');
    await turn();
    expect(runs[1]!.items).toEqual(['b', 'c', 'd']);
    runs[1]!.end();
    expect(await Promise.all(rest)).toEqual(['b!', 'c!', 'd!']);
  });

  it('takes no more than it may, and works in as many lanes as it has', async () => {
    const { batch, runs, turn } = held({ most: 2, lanes: 2 });
    const all = ['a', 'b', 'c', 'd', 'e'].map((item) => batch.add(item));
    expect(runs.map((run) => run.items)).toEqual([['a'], ['b']]);
    runs[0]!.end();
    await turn();
    expect(runs[2]!.items).toEqual(['c', 'd']);
    for (const run of runs.slice(1)) run.end();
    await turn();
    runs[3]!.end();
    expect(await Promise.all(all)).toHaveLength(5);
  });

  it('never works two of the same key at once, and keeps their order', async () => {
    const { batch, runs, turn } = held({ lanes: 3, keyOf: (item) => item[0]! });
    const all = ['x1', 'x2', 'y1', 'x3'].map((item) => batch.add(item));
    expect(runs.map((run) => run.items)).toEqual([['x1'], ['y1']]);
    runs[0]!.end();
    await turn();
    expect(runs[2]!.items).toEqual(['x2']);
    runs[1]!.end();
    runs[2]!.end();
    await turn();
    expect(runs[3]!.items).toEqual(['x3']);
    runs[3]!.end();
    expect(await Promise.all(all)).toEqual(['x1!', 'x2!', 'y1!', 'x3!']);
  });

  it('lets one bad item spoil only itself', async () => {
    const seen: string[][] = [];
    const batch = new Batch<string, string>(async (items) => {
      seen.push(items);
      if (items.includes('bad')) throw new Error('bad');
      return items;
    });
    const all = await Promise.allSettled(['a', 'b', 'bad', 'c'].map((item) => batch.add(item)));
    expect(all.map((one) => one.status)).toEqual(['fulfilled', 'fulfilled', 'rejected', 'fulfilled']);
    expect(seen).toEqual([['a'], ['b', 'bad', 'c'], ['b'], ['bad'], ['c']]);
  });

  it('asks nobody a second time while the database is away', async () => {
    let runs = 0;
    const batch = new Batch<string, string>(async () => {
      runs += 1;
      throw away;
    });
    const all = await Promise.allSettled(['a', 'b', 'c'].map((item) => batch.add(item)));
    expect(all.every((one) => one.status === 'rejected' && one.reason === away)).toBe(true);
    expect(runs).toBe(2);
  });

  it('gives everybody their own result, whatever comes and however it is grouped', async () => {
    await fc.assert(
      fc.asyncProperty(
        fc.array(fc.tuple(fc.integer({ min: 0, max: 4 }), fc.nat({ max: 1000 })), { maxLength: 60 }),
        fc.integer({ min: 1, max: 7 }),
        fc.integer({ min: 1, max: 3 }),
        async (items, most, lanes) => {
          const underWay = new Set<number>();
          const batch = new Batch<[number, number], number>(
            async (group) => {
              expect(group.length).toBeLessThanOrEqual(most);
              for (const [key] of group) {
                expect(underWay.has(key)).toBe(false);
                underWay.add(key);
              }
              await new Promise((resolve) => setImmediate(resolve));
              for (const [key] of group) underWay.delete(key);
              return group.map(([, value]) => value * 2);
            },
            { most, lanes, keyOf: ([key]) => String(key) },
          );
          expect(await Promise.all(items.map((item) => batch.add(item)))).toEqual(items.map(([, value]) => value * 2));
        },
      ),
      { numRuns: 60 },
    );
  });
});
