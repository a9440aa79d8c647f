import sharp from 'sharp';
import { describe, expect, it } from 'vitest';
import { type Sharing, sharingPicture } from './sharing';

const base: Sharing = { title: 'One', name: 'Lanternfish', by: 'Ada', accent: '#0f6b5c', paper: '#ffffff', ink: '#000000' };
/** How many points of a part of the picture are as dark as its words. */
async function ink(more: Partial<Sharing>, left: number, top: number, width: number, height: number): Promise<number> {
  const { data } = await sharp(await sharingPicture({ ...base, ...more }))
    .extract({ left, top, width, height })
    .greyscale()
    .raw()
    .toBuffer({ resolveWithObject: true });
  return data.reduce((n, point) => n + Number(point < 60), 0);
}
const TITLE = [0, 20, 1200, 440] as const;
const FOOT = [0, 480, 1200, 150] as const;
const MARGIN = [1135, 20, 65, 610] as const;

describe('the picture of a page that is shared', () => {
  it('has the title, and under it whose it is', async () => {
    const { width, height, format } = await sharp(await sharingPicture(base)).metadata();
    expect([width, height, format]).toEqual([1200, 630, 'png']);
    expect(await ink({}, ...TITLE)).toBeGreaterThan(500);
    expect(await ink({}, 0, 480, 600, 150)).toBeGreaterThan(200);
    expect(await ink({}, 600, 480, 600, 150)).toBeGreaterThan(50);
  });
  it.each(['Что видит удильщик', 'Ένα φως στα βάθη', 'Đèn dưới biển sâu', 'Łódź, 1926'])('writes %s', async (title) => {
    expect(await ink({ title }, ...TITLE)).toBeGreaterThan(1_000);
  });
  it('leaves out what no face can write', async () => {
    expect(await ink({ title: '深海の光' }, ...TITLE)).toBe(0);
    expect(await ink({ title: '深海の光' }, ...FOOT)).toBeGreaterThan(200);
    expect(await ink({ title: 'One 🐟' }, ...TITLE)).toBe(await ink({}, ...TITLE));
  });
  it('keeps its margins, however long the words', async () => {
    const long = { title: 'W'.repeat(200), name: 'W'.repeat(90), by: 'W'.repeat(60) };
    expect(await ink(long, ...MARGIN)).toBe(0);
    expect(await ink(long, 0, 605, 1200, 25)).toBe(0);
  });
});
