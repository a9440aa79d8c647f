import { contrast } from '../newsletters/identity';

/** Families that every mail program has, by what they are like. A letter brings no font of its own. */
export const FACES = {
  book: "Georgia, 'Times New Roman', serif",
  old: "'Palatino Linotype', Palatino, 'Book Antiqua', Georgia, serif",
  narrow: "'Times New Roman', Times, serif",
  plain: "'Helvetica Neue', Helvetica, Arial, sans-serif",
  wide: 'Verdana, Geneva, Tahoma, sans-serif',
  round: "'Trebuchet MS', Tahoma, Arial, sans-serif",
  typewriter: "'Courier New', Courier, monospace",
} as const;
export type Face = keyof typeof FACES;

export const SIZES = [16, 17, 18, 20] as const;
export const LETTER_WIDTHS = [480, 540, 600, 640] as const;
/** Pixels at either side of a letter's words. */
export const ROOMS = { narrow: 20, usual: 32, wide: 48 } as const;
export const CORNERS = { square: 0, soft: 6, round: 14 } as const;

/** How letters look. Colours are `#rrggbb`; an accent of '' is the newsletter's own. */
export type Look = {
  text: Face;
  headings: Face;
  size: (typeof SIZES)[number];
  width: (typeof LETTER_WIDTHS)[number];
  room: keyof typeof ROOMS;
  corners: keyof typeof CORNERS;
  colours: { ink: string; soft: string; sheet: string; page: string; accent: string };
  button: 'filled' | 'outlined';
  head: { logo: boolean; name: boolean; see: boolean; centred: boolean };
  /** `words` stand before what every letter must say; our own line of credit only where it is wanted. */
  foot: { words: string; links: boolean; credit: boolean; centred: boolean };
};

export const STARTING_LOOK: Look = {
  text: 'book',
  headings: 'book',
  size: 18,
  width: 600,
  room: 'usual',
  corners: 'soft',
  colours: { ink: '#1c2230', soft: '#525a69', sheet: '#fffefb', page: '#f6f5f0', accent: '' },
  button: 'filled',
  head: { logo: true, name: true, see: true, centred: false },
  foot: { words: '', links: true, credit: false, centred: false },
};

/** Our ink, light or dark, that is read better on a ground. */
export const inkOn = (ground: string): string =>
  contrast('#fffefb', ground) >= contrast('#1c2230', ground) ? '#fffefb' : '#1c2230';

/** Where words of a look are hard to read on their ground: below 4.5 to 1. */
export function unreadable(look: Look, newsletterColour: string): string[] {
  const { ink, soft, sheet, page } = look.colours;
  const accent = look.colours.accent || newsletterColour;
  const pairs: [string, string, string][] = [
    ['The text', ink, sheet],
    ['What is less important', soft, sheet],
    ['The foot', soft, page],
    ['Links', accent, sheet],
  ];
  return pairs.filter(([, words, ground]) => contrast(words, ground) < 4.5).map(([name]) => name);
}
