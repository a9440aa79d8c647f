import { type Editor, Extension } from '@tiptap/core';
import { NodeSelection } from '@tiptap/pm/state';

/*
 * What can be done with a block as a whole: it is taken by its handle and moved, or its menu is opened there, or with Alt and Enter where the cursor
 * stands.
 */

/** Where the block begins in which the cursor stands, and which it is. */
export function blockAt(editor: Editor): { pos: number; index: number } {
  const { $from } = editor.state.selection;
  const index = $from.index(0);
  return { pos: $from.posAtIndex(index, 0), index };
}

/** Moves the block at a place up or down by one; the cursor goes with it. */
export function moveBlock(editor: Editor, by: -1 | 1): boolean {
  const { state, view } = editor;
  const { pos, index } = blockAt(editor);
  const other = index + by;
  if (other < 0 || other >= state.doc.childCount) return false;
  const [upper, lower] = by === 1 ? [index, other] : [other, index];
  const [first, second] = [state.doc.child(upper), state.doc.child(lower)];
  const start = by === 1 ? pos : pos - first.nodeSize;
  const inside = state.selection.from - pos;
  const chosen = state.selection instanceof NodeSelection;
  view.dispatch(state.tr.replaceWith(start, start + first.nodeSize + second.nodeSize, [second, first]).scrollIntoView());
  const at = (by === 1 ? start + second.nodeSize : start) + inside;
  return chosen ? editor.commands.setNodeSelection(at) : editor.commands.setTextSelection(at);
}

/** Alt and the arrows move a block, Alt and Enter open its menu, and a link is asked for by keys. */
export const BlockKeys = Extension.create({
  name: 'blockKeys',
  addKeyboardShortcuts() {
    const tell = (what: string) => () => this.editor.view.dom.dispatchEvent(new Event(what));
    return {
      'Alt-ArrowUp': () => moveBlock(this.editor, -1),
      'Alt-ArrowDown': () => moveBlock(this.editor, 1),
      'Alt-Enter': tell('inkset-block'),
      'Mod-Shift-k': tell('inkset-link'),
      'Mod-h': tell('inkset-find'),
    };
  },
});
