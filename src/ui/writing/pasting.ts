import type { Editor } from '@tiptap/core';
import { Fragment, Slice } from '@tiptap/pm/model';
import type { Document } from '@/core/writing/document';
import { toEditor } from '@/core/writing/editing';
import { fromMarkdown } from '@/core/writing/from-markdown';
import { fromPasted } from '@/core/writing/pasted';

/*
 * What is pasted from elsewhere, as nodes. Loaded when something is pasted for the first time, since most of it is a parser of HTML and of Markdown.
 */

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
