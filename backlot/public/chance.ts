/** Numbers that look like chance, the same each time (mulberry32). */
export function chance(seed: number): () => number {
  let a = seed;
  return () => {
    a = (a + 0x6d2b79f5) | 0;
    let t = Math.imul(a ^ (a >>> 15), 1 | a);
    t = (t + Math.imul(t ^ (t >>> 7), 61 | t)) ^ t;
    return ((t ^ (t >>> 14)) >>> 0) / 4294967296;
  };
}

/** A seed that some text always gives. */
export const seedOf = (text: string): number =>
  [...text].reduce((sum, letter) => (Math.imul(sum, 31) + letter.charCodeAt(0)) | 0, 17);
