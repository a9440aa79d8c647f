import { describe, expect, it } from 'vitest';
import { chance } from '../../../backlot/public/chance';
import { fewerConfirm } from './fewer-confirm';

describe('providers at which few confirm', () => {
  it('are those that differ by more than chance, and by much', () => {
    const even = [
      { name: 'a', asked: 200, confirmed: 160 },
      { name: 'b', asked: 100, confirmed: 78 },
    ];
    expect(fewerConfirm(even)).toEqual([]);
    const [found, ...rest] = fewerConfirm([...even, { name: 'c', asked: 100, confirmed: 30 }]);
    expect(rest).toEqual([]);
    expect(found).toMatchObject({ name: 'c' });
    // Some fifty of a hundred would have confirmed besides.
    expect(found!.low).toBeGreaterThan(35);
    expect(found!.high).toBeLessThan(60);
    expect(fewerConfirm([{ name: 'a', asked: 19, confirmed: 0 }, even[0]!])).toEqual([]);
    expect(fewerConfirm([{ name: 'only', asked: 500, confirmed: 10 }])).toEqual([]);
    expect(fewerConfirm([])).toEqual([]);
    // By little, however sure it is.
    expect(
      fewerConfirm([
        { name: 'a', asked: 100_000, confirmed: 80_000 },
        { name: 'b', asked: 100_000, confirmed: 75_000 },
      ]),
    ).toEqual([]);
  });

  it('have as many in junk as is said, in nine of ten worlds; and none are named where mail comes in', () => {
    const random = chance(5);
    const draw = (n: number, p: number) =>
      Array.from({ length: n }, () => Number(random() < p)).reduce((sum, one) => sum + one, 0);
    let [held, falsely] = [0, 0];
    const WORLDS = 200;
    for (let world = 0; world < WORLDS; world += 1) {
      const others = [300, 150, 80].map((asked, n) => ({ name: `p${n}`, asked, confirmed: draw(asked, 0.8) }));
      const junk = 0.5;
      const found = fewerConfirm([...others, { name: 'j', asked: 200, confirmed: draw(200, 0.8 * (1 - junk)) }]).find(
        ({ name }) => name === 'j',
      );
      if (found && found.low <= 0.8 * junk * 200 && 0.8 * junk * 200 <= found.high) held += 1;
      falsely += fewerConfirm([...others, { name: 'j', asked: 200, confirmed: draw(200, 0.8) }]).length;
    }
    expect(held / WORLDS).toBeGreaterThanOrEqual(0.85);
    expect(falsely).toBeLessThanOrEqual(2);
  });
});
