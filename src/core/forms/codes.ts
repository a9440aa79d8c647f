import { escapeHtml } from '../html';
import type { FormDefinition } from './definition';
import { plainHtml } from './render';

export type FormCode = { kind: 'script' | 'iframe' | 'html' | 'link'; title: string; follows: string; code: string };

/** The codes that carry a form to another page, each with a sentence on whether later edits reach it. */
export function formCodes(
  form: { publicId: string; definition: FormDefinition; lists: { id: string; name: string }[] },
  linkOrigin: string,
): FormCode[] {
  const base = `${linkOrigin}/e/form/${form.publicId}`;
  const stands = ['panel', 'one line', 'after-post'].includes(form.definition.placement.kind);
  const frame = `<iframe src="${base}" title="${escapeHtml(form.definition.heading)}" loading="lazy" referrerpolicy="unsafe-url" style="width:100%;height:320px;border:0"></iframe>`;
  return [
    {
      kind: 'script',
      title: 'One script line',
      follows: `Follows every version you publish. ${stands ? 'The form stands where the line stands; where scripts are off, a frame takes its place.' : 'Put it anywhere on the page, once; it comes over the page by itself.'}`,
      code: `<script async src="${base}.js"></script>${stands ? `<noscript>${frame}</noscript>` : ''}`,
    },
    {
      kind: 'iframe',
      title: 'Frame',
      follows: 'Follows every version you publish. The second line fits its height; without it the height is fixed.',
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

/** The line that remembers where visitors come from; once on every page, whichever forms stand there. */
export const siteSnippet = (linkOrigin: string) => `<script async src="${linkOrigin}/e/site.js"></script>`;
