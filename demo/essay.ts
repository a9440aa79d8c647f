import sharp from 'sharp';
import type { Document, Inline, Node } from '@/core/writing/document';
import { STARTING_LAYOUT } from '@/core/writing/layout';
import { STARTING_LOOK } from '@/core/writing/look';
import type { Context, Newsletter } from '@/server/context';
import { newId } from '@/server/ids';
import { keepPicture } from '@/server/newsletters/media';

const say = (...inline: (string | Inline)[]): Node => ({
  kind: 'paragraph',
  inline: inline.map((one) => (typeof one === 'string' ? { kind: 'text', text: one } : one)),
});
const note = (text: string): Inline => ({ kind: 'note', words: [{ kind: 'text', text }] });
const cells = (...texts: string[]): Inline[][] => texts.map((text) => [{ kind: 'text', text }]);

/** A picture of the deep, drawn: lights on dark water, in an order that is always the same. */
async function drawn(ctx: Context, newsletter: Newsletter, seed: number, wide: number, high: number): Promise<string> {
  let state = seed;
  const next = () => {
    state = (state * 48_271) % 2_147_483_647;
    return state / 2_147_483_647;
  };
  const lights = Array.from({ length: 70 }, () => {
    const size = 0.8 + next() * next() * 7;
    return `<circle cx="${(next() * wide).toFixed(0)}" cy="${(high * (0.2 + next() * 0.75)).toFixed(0)}" r="${size.toFixed(1)}" fill="${next() > 0.3 ? '#9fe6d2' : '#f2d98a'}" opacity="${(0.25 + next() * 0.7).toFixed(2)}"/>`;
  });
  const svg = `<svg xmlns="http://www.w3.org/2000/svg" width="${wide}" height="${high}"><defs><linearGradient id="w" x1="0" y1="0" x2="0" y2="1"><stop offset="0" stop-color="#1d4a57"/><stop offset="1" stop-color="#07161c"/></linearGradient></defs><rect width="100%" height="100%" fill="url(#w)"/>${lights.join('')}</svg>`;
  const bytes = await sharp(Buffer.from(svg)).png().toBuffer();
  return (await keepPicture(ctx, newsletter, new Blob([new Uint8Array(bytes)]))).url;
}

/** A letter with all that a letter may have: pictures, a table, notes, columns, words set large. */
export async function essay(ctx: Context, newsletter: Newsletter): Promise<{ document: Document; picture: string }> {
  const [wide, left, right] = await Promise.all([
    drawn(ctx, newsletter, 11, 1200, 560),
    drawn(ctx, newsletter, 23, 640, 480),
    drawn(ctx, newsletter, 37, 640, 480),
  ]);
  const nodes: Node[] = [
    say(
      'At six hundred metres the net comes up glowing. For about forty seconds',
      note('Forty-one, by the stopwatch of the second mate, who would not be hurried.'),
      ' every lanternfish in the cod-end is lit, then they go out, one after another, like windows in a street.',
    ),
    {
      kind: 'picture',
      src: wide,
      alt: 'Hundreds of small lights, green and yellow, in dark water',
      caption: [{ kind: 'text', text: 'Drawn from memory, an hour later.' }],
      credit: 'Drawing: Ottoline Vance',
    },
    { kind: 'heading', level: 2, inline: [{ kind: 'text', text: 'How we counted' }] },
    say('We tried three ways, and trusted none of them until two agreed.'),
    {
      kind: 'columns',
      columns: [
        [
          { kind: 'heading', level: 3, inline: [{ kind: 'text', text: 'By hand' }] },
          say('A tray, a torch, and a tally counter that sticks at every ninth fish.'),
        ],
        [
          { kind: 'heading', level: 3, inline: [{ kind: 'text', text: 'By eye' }] },
          say('From the rail, in the dark, before anybody had said a number aloud.'),
        ],
      ],
    },
    {
      kind: 'table',
      rows: [
        { head: true, cells: cells('Haul', 'By hand', 'By eye') },
        { head: false, cells: cells('14', '212', '190') },
        { head: false, cells: cells('15', '98', '140') },
        { head: false, cells: cells('16', '305', '300') },
      ],
    },
    {
      kind: 'pull quote',
      inline: [{ kind: 'text', text: 'Nobody guesses well when they know what they hope for.' }],
      by: 'The second mate',
    },
    say(
      'Each haul was counted twice, by two people who did not speak to each other until supper.',
      note('Supper was late on all three nights.'),
    ),
    {
      kind: 'gallery',
      pictures: [
        { src: left, alt: 'A few lights, far apart' },
        { src: right, alt: 'Many lights, close together' },
      ],
    },
    { kind: 'call-out', nodes: [say('The numbers, all of them, are yours to use. Say where you had them from.')] },
  ];
  return { document: { version: 1, nodes }, picture: wide };
}

/** A second layout, for short letters from the boat, beside the usual one. */
export async function layouts(ctx: Context, newsletter: Newsletter): Promise<void> {
  const look = {
    ...STARTING_LOOK,
    text: 'plain' as const,
    headings: 'plain' as const,
    size: 16 as const,
    width: 540 as const,
    corners: 'square' as const,
    colours: { ink: '#1f2a2e', soft: '#54626a', sheet: '#ffffff', page: '#e9eef0', accent: '#0f5c6e' },
    button: 'outlined' as const,
    head: { ...STARTING_LOOK.head, centred: true },
    foot: { ...STARTING_LOOK.foot, words: 'Written on the boat, sent from the harbour.', centred: true },
  };
  await ctx.db
    .insertInto('layouts')
    .values({
      id: newId(),
      newsletter_id: newsletter.id,
      name: 'From the boat',
      layout: JSON.stringify({
        ...STARTING_LAYOUT,
        look,
        nodes: [
          { kind: 'post', part: 'title' },
          { kind: 'post', part: 'byline', author: true, day: true },
          { kind: 'post', part: 'body' },
        ],
      }),
      updated_at: ctx.clock.now(),
    })
    .execute();
}
