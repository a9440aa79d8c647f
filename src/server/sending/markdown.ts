import { Fault } from '@/core/faults';
import { fromMarkdown } from '@/core/writing/from-markdown';
import { oneLine } from '@/core/writing/line';
import { renderMarkdown } from '@/core/writing/to-markdown';
import type { Person } from '../auth/session';
import type { Context, Newsletter } from '../context';
import { newId } from '../ids';
import { beginLetter, draftOf, saveDraftLetter } from './drafts';
import { pageOf, savePage } from './pages';

/* Letters out as files of Markdown, and in from such files, with what each says of itself before its words. */

const MOST_BYTES = 2_000_000;

/** A letter as Markdown with front matter. Throws "not-found". */
export async function markdownOf(ctx: Context, newsletter: Newsletter, id: string): Promise<{ title: string; markdown: string }> {
  const [draft, page] = await Promise.all([draftOf(ctx, newsletter, id), pageOf(ctx, newsletter, id)]);
  const said = {
    title: draft.title,
    subtitle: draft.subtitle,
    subject: draft.subject,
    preview: draft.previewLine,
    slug: page.slug,
    topics: page.topics,
    description: page.description,
    canonical: page.canonical,
    author: page.author,
  };
  const front = Object.fromEntries(Object.entries(said).filter(([, value]) => value && (!Array.isArray(value) || value.length)));
  return { title: draft.title, markdown: renderMarkdown(draft.document, front) };
}

/**
 * Begins a letter out of a file of Markdown. What it says of itself is taken where it can be; an address or a site of origin that cannot be kept is left as
 * it would be without. Throws "invalid" for a file that is no text.
 */
export async function beginFromMarkdown(
  ctx: Context,
  newsletter: Newsletter,
  person: Pick<Person, 'name'>,
  file: unknown,
): Promise<{ id: string }> {
  if (!(file instanceof File) || file.size === 0) throw new Fault('invalid', 'Choose a file first.', { file: 'No file.' });
  if (file.size > MOST_BYTES) throw new Fault('invalid', 'This file is larger than 2 MB.', { file: 'Too large.' });
  const bytes = new Uint8Array(await file.arrayBuffer());
  if (bytes.includes(0))
    throw new Fault('invalid', 'This file is no text. A file of Markdown ends in .md.', { file: 'Not text.' });
  const { document, front } = fromMarkdown(new TextDecoder('utf-8').decode(bytes));
  // Without a title of its own a file begins with it.
  const first = document.nodes[0];
  const heads = !front.title && first?.kind === 'heading' && first.level === 1;
  const title = heads
    ? first.inline.map((one) => (one.kind === 'text' ? one.text : '')).join('')
    : (front.title ?? file.name.replace(/\.(md|markdown|txt)$/i, ''));
  const { id } = await beginLetter(ctx, newsletter);
  await saveDraftLetter(ctx, newsletter, person, id, {
    key: newId(),
    leave: true,
    revision: 1,
    change: { at: 0, remove: 0, insert: heads ? document.nodes.slice(1) : document.nodes },
    title: oneLine(title).slice(0, 300),
    subtitle: oneLine(front.subtitle ?? '').slice(0, 500),
    ...(front.subject ? { subject: oneLine(front.subject).slice(0, 200) } : {}),
    ...(front.preview ? { previewLine: oneLine(front.preview).slice(0, 300) } : {}),
  });
  const page = await pageOf(ctx, newsletter, id);
  const canonical =
    front.canonical && /^https?:\/\//i.test(front.canonical) && URL.canParse(front.canonical) ? front.canonical : '';
  const said = {
    goes: page.goes,
    audience: page.audience,
    topics: (front.topics ?? [])
      .slice(0, 10)
      .map((topic) => topic.replace(/,/g, ' '))
      .join(', '),
    description: oneLine(front.description ?? '').slice(0, 300),
    author: oneLine(front.author ?? '').slice(0, 120) || page.author,
    canonical,
  };
  await savePage(ctx, newsletter, id, { ...said, slug: front.slug ?? '' }).catch((error: unknown) => {
    if (!(error instanceof Fault)) throw error;
    return savePage(ctx, newsletter, id, { ...said, slug: '' });
  });
  return { id };
}
