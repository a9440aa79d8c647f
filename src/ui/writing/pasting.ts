import type { Editor } from '@tiptap/core';
import { Fragment, Slice } from '@tiptap/pm/model';
import type { Document } from '@/core/writing/document';
import { toEditor } from '@/core/writing/editing';
import { fromMarkdown } from '@/core/writing/from-markdown';
import { fromPasted } from '@/core/writing/pasted';

/*
 * What is pasted from elsewhere, as nodes. Loaded when something is pasted for the first time, since most of it is a parser of HTML and of Markdown.
 */

/** No letter shows more. */
const MOST_HELD = 500;

/**
 * Pictures that lie on the clipboard themselves are sent to be kept, and stand in the HTML by the address they have then. How many could not be, or
 * lie in a file that no page may read, is answered too.
 */
export async function keepHeld(
  html: string,
  keep: (file: Blob) => Promise<string | null>,
): Promise<{ html: string; lost: number }> {
  const addresses = new Map<string, string | null>();
  let lost = 0;
  for (const [, source = ''] of html.matchAll(
    /<img\b[^>]*?\bsrc\s*=\s*["'](data:image\/[a-z+.-]+;base64,[^"']+|file:[^"']+)["']/gi,
  )) {
    if (addresses.has(source)) continue;
    const file = addresses.size < MOST_HELD ? held(source) : null;
    addresses.set(source, file && (await keep(file)));
    if (!addresses.get(source)) lost += 1;
  }
  let kept = html;
  for (const [source, address] of addresses) if (address) kept = kept.replaceAll(source, address);
  return { html: kept, lost };
}

function held(source: string): Blob | null {
  const [, type, base64] = /^data:(image\/[a-z+.-]+);base64,(.+)$/is.exec(source) ?? [];
  try {
    return base64 ? new Blob([Uint8Array.from(atob(base64), (one) => one.charCodeAt(0))], { type }) : null;
  } catch {
    return null;
  }
}

/** What pasted HTML, or text that is Markdown, says. */
export const readPasted = (html: string, text: string): Document => (html ? fromPasted(html) : fromMarkdown(text).document);

/** Puts it in where the cursor stands: words into the line, blocks between blocks. */
export function putIn(editor: Editor, document: Document): void {
  if (document.nodes.length === 0) return;
  const { schema, view } = editor;
  const nodes = (toEditor(document).content ?? []).map((one) => schema.nodeFromJSON(one));
  const open = (one: (typeof nodes)[number] | undefined) => (one?.type.name === 'paragraph' ? 1 : 0);
  const slice = new Slice(Fragment.fromArray(nodes), open(nodes[0]), open(nodes.at(-1)));
  view.dispatch(view.state.tr.replaceSelection(slice).scrollIntoView());
  view.focus();
}
