import { readFile } from 'node:fs/promises';
import { createRequire } from 'node:module';
import { dirname, join } from 'node:path';
import satori from 'satori';
import sharp from 'sharp';

/** What stands on the picture that goes with a page when it is shared. */
export type Sharing = { title: string; name: string; by: string; accent: string; paper: string; ink: string };

const [WIDE, HIGH] = [1200, 630];
const MOST_KEPT = 200;
const kept = new Map<string, Promise<Buffer>>();

let face: Promise<Buffer[]> | undefined;
const FACES = {
  newsreader: ['latin', 'latin-ext', 'vietnamese'],
  'noto-serif': ['cyrillic', 'cyrillic-ext', 'greek', 'greek-ext'],
};
/** The house's own face, and another for the scripts that it does not have. */
function faces(): Promise<Buffer[]> {
  const resolve = createRequire(import.meta.url).resolve;
  face ??= Promise.all(
    Object.entries(FACES).flatMap(([name, parts]) => {
      const files = join(dirname(resolve(`@fontsource/${name}/package.json`)), 'files');
      return parts.map((part) => readFile(join(files, `${name}-${part}-500-normal.woff`)));
    }),
  );
  return face;
}
/** What these faces can write. */
const DRAWABLE = /[\p{Script=Latin}\p{Script=Cyrillic}\p{Script=Greek}\p{N}\p{P}\p{Zs}\p{Sc}]/u;

type Box = { type: string; props: { style: Record<string, unknown>; children?: unknown } };
const box = (style: Record<string, unknown>, children?: unknown): Box => ({
  type: 'div',
  props: { style: { display: 'flex', ...style }, children },
});

/** Words of so many lines as fit a height, broken where a single one is too long. */
const upTo = (maxHeight: number) => ({ maxHeight, overflow: 'hidden', wordBreak: 'break-word' });

async function draw({ title, name, by, accent, paper, ink }: Sharing): Promise<Buffer> {
  // Scripts that no face has would be boxes: such a title stands on the page, and the picture has the colours alone.
  const drawable = (text: string) => [...text.normalize('NFC')].filter((one) => DRAWABLE.test(one)).join('');
  const clean = (text: string, most: number) => {
    const said = drawable(text).trim();
    return said.length < [...text].length / 2 ? '' : said.length > most ? `${said.slice(0, most - 1)}…` : said;
  };
  const said = clean(title, 120);
  const data = await faces();
  const svg = await satori(
    box(
      {
        boxSizing: 'border-box',
        width: WIDE,
        height: HIGH,
        flexDirection: 'column',
        justifyContent: 'space-between',
        background: paper,
        color: ink,
        padding: '64px 72px',
        borderTop: `14px solid ${accent}`,
      },
      [
        // Five lines of the smaller size, four of the larger.
        box({ fontSize: said.length > 60 ? 62 : 78, lineHeight: 1.12, ...upTo(348) }, said || ' '),
        box({ justifyContent: 'space-between', gap: 40, fontSize: 32, borderTop: `2px solid ${accent}`, paddingTop: 22 }, [
          box({ lineHeight: 1.1, ...upTo(70) }, clean(name, 60) || ' '),
          box({ lineHeight: 1.1, maxWidth: '48%', flexShrink: 0, ...upTo(70) }, clean(by, 40) || ' '),
        ]),
      ],
    ) as never,
    {
      width: WIDE,
      height: HIGH,
      fonts: data.map((bytes, n) => ({ name: `house${n}`, data: bytes, weight: 500, style: 'normal' as const })),
    },
  );
  return sharp(Buffer.from(svg)).png({ compressionLevel: 9, palette: true }).toBuffer();
}

/** A picture of 1200 by 630 as PNG, made once for what it says. */
export function sharingPicture(sharing: Sharing): Promise<Buffer> {
  const key = JSON.stringify(sharing);
  const known = kept.get(key);
  if (known) return known;
  if (kept.size >= MOST_KEPT) kept.delete(kept.keys().next().value!);
  const made = draw(sharing);
  kept.set(key, made);
  made.catch(() => kept.delete(key));
  return made;
}
