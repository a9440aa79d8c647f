import { escapeHtml } from '../html';
import type { FormDefinition } from './definition';
import { LINE_FROM } from './look';
import { shapeOf } from './placement';
import { plainHtml } from './render';

export type FormCode = { kind: 'script' | 'room' | 'iframe' | 'html' | 'link'; title: string; follows: string; code: string };

/** The codes that carry a form to another page, each with a sentence on whether later edits reach it. */
export function formCodes(
  form: { publicId: string; definition: FormDefinition; lists: { id: string; name: string }[] },
  linkOrigin: string,
): FormCode[] {
  const base = `${linkOrigin}/e/form/${form.publicId}`;
  const stands = form.definition.placement.kind === 'panel' || form.definition.placement.kind === 'one line';
  const line = `<script async src="${base}.js"></script>`;
  const frame = `<iframe src="${base}" title="${escapeHtml(form.definition.heading)}" loading="lazy" referrerpolicy="unsafe-url" style="width:100%;height:320px;border:0"></iframe>`;
  return [
    {
      kind: 'script',
      title: 'One script line',
      follows: `Follows every version you publish, and stays right if the form is to stand elsewhere. ${stands ? 'The form stands where the line stands.' : 'Put it anywhere on the page, once; the form finds its place by itself.'}`,
      code: line,
    },
    ...(stands
      ? [
          {
            kind: 'room' as const,
            title: 'The line with room kept',
            follows: 'The same, and nothing below it moves when the form comes. Where scripts are off, a frame takes its place.',
            code: `<div style="container-type:inline-size;width:100%"><div data-inkset-room style="min-height:${room(form.definition)}">${line}<noscript>${frame}</noscript></div></div>`,
          },
        ]
      : []),
    {
      kind: 'iframe',
      title: 'Frame',
      follows:
        'Follows every version you publish, and needs no script. The second line fits its height; without it the height is fixed.',
      code: `${frame}\n<script async src="${linkOrigin}/e/frame.js"></script>`,
    },
    {
      kind: 'html',
      title: 'Plain HTML',
      follows: 'Yours to restyle, and needs no script. Later edits do not reach it: copy it again after a change.',
      code: plainHtml(form.definition, base, form.lists),
    },
    {
      kind: 'link',
      title: 'Its own page',
      follows: 'An address to share or to put behind a button. Follows every version you publish.',
      code: base,
    },
  ];
}

/** Pixels of text, roughly, at so many pixels of width. */
const textHeight = (text: string, width: number, letter: number, line: number) =>
  text ? Math.ceil((text.length * letter) / Math.max(80, width)) * line : 0;

/** How high a form will be in a column of this width: an estimate on the high side. */
function heightAt(
  { heading, words, fields, consent, terms, listChoice, countFrom, look, placement }: FormDefinition,
  column: number,
): number {
  const width = Math.min(column, look.width || column);
  const inside = width - 2 * (look.padding + look.borderWidth);
  const rows = fields.reduce((sum, field) => {
    if (field.kind === 'hidden') return sum;
    const own =
      field.kind === 'long text'
        ? 120
        : field.kind === 'several choices'
          ? 24 + 32 * field.options.length
          : field.kind === 'yes/no'
            ? 32
            : 68;
    const height = own + 12 + textHeight(field.help, inside, 6.5, 19);
    return sum + (field.width === 'half' && inside > 372 ? height / 2 : height);
  }, 0);
  const small = (terms.words ? 12 + textHeight(terms.words, inside, 6.5, 20) : 0) + (countFrom ? 32 : 0);
  const ticks =
    (consent ? 18 + textHeight(consent, inside - 30, 7, 21) : 0) + (listChoice.length ? 36 + 32 * listChoice.length : 0);
  if (shapeOf(placement.kind) === 'line') {
    const asked = fields.filter((field) => field.kind !== 'hidden').length;
    const row = width >= LINE_FROM && asked === 1 ? 46 : textHeight(heading, inside, 9, 21) + 8 + asked * 52 + 52;
    return Math.round(28 + 2 * look.borderWidth + row + ticks + small);
  }
  const picture = look.picture.url && (look.picture.stands === 'above' || width < 480) ? inside * 0.6 + 16 : 0;
  const head = textHeight(heading, inside, 12, 30) + 6 + textHeight(words, inside, 8, 24) + 14;
  return Math.round(2 * (look.padding + look.borderWidth) + head + rows + ticks + 48 + small + picture);
}

/** Widths of a column, in pixels, between which heights are taken to lie on straight lines. */
const NARROW = [220, 280, 360] as const;

/**
 * The room a form takes in a page before its script has come, so that nothing below it moves: CSS that reckons with the width of the column
 * around it (container query units). Texts need less height the wider the column, ever more slowly, so the highest of the lines is right.
 */
function room(definition: FormDefinition): string {
  const widths = [...NARROW, Math.max(definition.look.width || 640, 420)];
  const heights = widths.map((width) => heightAt(definition, width));
  const lines = NARROW.flatMap((width, n) => {
    const fall = (heights[n]! - heights[n + 1]!) / (widths[n + 1]! - width);
    return fall > 0 ? [`${heights[n]}px - (100cqw - ${width}px)*${fall.toFixed(2)}`] : [];
  });
  const least = `${heights.at(-1)}px`;
  return lines.length ? `max(${[least, ...lines].join()})` : least;
}

export type SiteGuide = { kind: string; steps: string[] };

/** How the script line gets onto a page, by kind of site, in general words. */
export const SITE_GUIDES: SiteGuide[] = [
  {
    kind: 'A site I click together in the browser',
    steps: [
      'Open the page, add a block, and choose the one for code. It is called HTML, Code or Embed.',
      'Paste the script line into it and save. In the preview of such editors scripts often rest: look at the published page.',
      'For a ribbon, card or pop-up look in the settings for code that stands at the end of every page, and paste it there once.',
    ],
  },
  {
    kind: 'A blog with themes',
    steps: [
      'In a single post: add a block for custom HTML where the form should stand, and paste the script line.',
      'After every post: choose the placement “after-post”, and paste the line once into the theme’s footer, or into its field for code at the end of pages.',
      'If the theme keeps pages in a cache, empty that once.',
    ],
  },
  {
    kind: 'Pages made by a generator from text files',
    steps: [
      'Put the script line into the template of a post, where the form should stand, or into the footer that all pages share.',
      'In a single text file it may stand between paragraphs as it is; some generators want raw HTML to be allowed first.',
      'Build and publish as always. Later versions of the form come by themselves.',
    ],
  },
  {
    kind: 'A site that is one program in the browser',
    steps: [
      'Put the line at the end of the page that carries the program; the form looks again whenever the address changes.',
      'To have it inside a view, use the frame instead: it needs no script of ours there.',
    ],
  },
  {
    kind: 'A site that allows no scripts',
    steps: [
      'Use the frame; its second line fits the height and may be left out.',
      'Where frames are not allowed either, paste the plain HTML: it is a form like any other. Copy it again after a change.',
      'Or link to the form’s own page from a button.',
    ],
  },
  {
    kind: 'A site with a content security policy',
    steps: [
      'Allow the host of the script line under script-src and connect-src; styles need nothing, since they come as a sheet made by the script.',
      'A picture in the form needs its host under img-src, the frame its host under frame-src, the plain HTML form-action.',
    ],
  },
];

/** The line that remembers where visitors come from; once on every page, whichever forms stand there. */
export const siteSnippet = (linkOrigin: string) => `<script async src="${linkOrigin}/e/site.js"></script>`;
