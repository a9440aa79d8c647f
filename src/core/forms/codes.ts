import { escapeHtml } from '../html';

export type FormCode = { kind: 'script' | 'iframe' | 'link'; title: string; follows: string; code: string };

/** The codes that carry a form to another page, each with a sentence on whether later edits reach it. */
export function formCodes(form: { publicId: string; heading: string }, linkOrigin: string): FormCode[] {
  const base = `${linkOrigin}/e/form/${form.publicId}`;
  const frame = `<iframe src="${base}" title="${escapeHtml(
    form.heading,
  )}" referrerpolicy="unsafe-url" style="width:100%;height:300px;border:0"></iframe>`;
  return [
    {
      kind: 'script',
      title: 'Script',
      follows: 'Follows every later edit. Where scripts are off, a frame stands in its place.',
      code: `<script async src="${base}.js"></script><noscript>${frame}</noscript>`,
    },
    {
      kind: 'iframe',
      title: 'Frame',
      follows: 'Follows every later edit and needs no script. Its height is fixed: change 300px if your form is taller.',
      code: frame,
    },
    {
      kind: 'link',
      title: 'Link',
      follows: 'A page of its own, to share or to put behind a button. Follows every later edit.',
      code: base,
    },
  ];
}
