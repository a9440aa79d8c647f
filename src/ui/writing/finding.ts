import { Extension } from '@tiptap/core';
import type { Node } from '@tiptap/pm/model';
import { Plugin, PluginKey } from '@tiptap/pm/state';
import { Decoration, DecorationSet } from '@tiptap/pm/view';

type Place = { from: number; to: number };
export type Found = { query: string; exact: boolean; places: Place[]; at: number };
export const finding = new PluginKey<Found>('finding');
export const NOTHING: Found = { query: '', exact: false, places: [], at: 0 };
/** More than these are not marked; nobody steps through them. */
const MOST = 2_000;

/** Everywhere that a text stands, within a block; what is no text stands between words. */
function placesOf(doc: Node, query: string, exact: boolean): Place[] {
  const places: Place[] = [];
  // Lower case may be longer than the text (İ), which would shift all that follows: such letters are compared as they are.
  const fold = (text: string) =>
    exact ? text : text.replace(/./gsu, (one) => (one.toLowerCase().length === one.length ? one.toLowerCase() : one));
  const wanted = fold(query);
  if (!wanted) return places;
  doc.descendants((node, pos) => {
    if (!node.isTextblock || places.length >= MOST) return places.length < MOST;
    const text = fold(node.textBetween(0, node.content.size, undefined, '\ufffc'));
    for (let n = text.indexOf(wanted); n >= 0 && places.length < MOST; n = text.indexOf(wanted, n + wanted.length))
      places.push({ from: pos + 1 + n, to: pos + 1 + n + wanted.length });
    return false;
  });
  return places;
}

/** Marks what is looked for in the letter. */
export const Finding = Extension.create({
  name: 'finding',
  addProseMirrorPlugins: () => [
    new Plugin<Found>({
      key: finding,
      state: {
        init: () => NOTHING,
        apply(tr, old) {
          const next = { ...old, ...(tr.getMeta(finding) as Partial<Found> | undefined) };
          if (!tr.docChanged && next.query === old.query && next.exact === old.exact) return next;
          const places = placesOf(tr.doc, next.query, next.exact);
          return { ...next, places, at: Math.max(0, Math.min(next.at, places.length - 1)) };
        },
      },
      props: {
        decorations(state) {
          const { places, at } = finding.getState(state) ?? NOTHING;
          if (places.length === 0) return null;
          return DecorationSet.create(
            state.doc,
            places.map(({ from, to }, n) => Decoration.inline(from, to, { class: n === at ? 'found here' : 'found' })),
          );
        },
      },
    }),
  ],
});
