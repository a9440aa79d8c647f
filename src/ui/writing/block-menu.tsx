'use client';

import type { Editor } from '@tiptap/core';
import { NodeSelection } from '@tiptap/pm/state';
import clsx from 'clsx';
import { GripVertical } from 'lucide-react';
import { useContext, useEffect, useRef, useState } from 'react';
import { ALIGNS, type BlockLook, WIDTHS } from '@/core/writing/document';
import { blockAt, moveBlock } from './block-keys';
import { AroundContext } from './blocks';

const LOOKS: Record<string, (keyof BlockLook)[]> = {
  paragraph: ['align', 'colour', 'ground'],
  heading: ['align', 'colour', 'ground'],
  pullQuote: ['align', 'colour', 'ground'],
  callOut: ['colour', 'ground'],
  picture: ['align', 'width'],
  actButton: ['align', 'colour'],
  horizontalRule: ['colour'],
};
const SAID = {
  start: 'At the start',
  centre: 'Centred',
  end: 'At the end',
  full: 'Full',
  half: 'Half',
  third: 'A third',
} as const;

type Place = { pos: number; top: number; height: number };

/** The handle beside the block that one points at or writes in, and its menu; `asked` tells that the menu was asked for before this was here. */
export function BlockMenu({ editor, asked: before }: { editor: Editor; asked: boolean }) {
  const opens = useRef(before);
  const [at, setAt] = useState<Place | null>(null);
  const [open, setOpen] = useState(false);
  const held = useRef(false);
  const panel = useRef<HTMLDivElement>(null);
  const handle = useRef<HTMLButtonElement>(null);
  useEffect(() => {
    const { dom } = editor.view;
    const placeOf = (pos: number): Place | null => {
      const node = editor.view.nodeDOM(pos);
      if (!(node instanceof HTMLElement)) return null;
      const [box, frame] = [node.getBoundingClientRect(), dom.getBoundingClientRect()];
      return { pos, top: box.top - frame.top, height: box.height };
    };
    const show = (pos: number) => {
      const place = placeOf(pos);
      if (place) setAt((old) => (old && old.pos === place.pos && old.top === place.top ? old : place));
    };
    const pointed = (event: MouseEvent) => {
      if (held.current || !editor.isEditable) return;
      for (let n = 0, pos = 0; n < editor.state.doc.childCount; n += 1) {
        const node = editor.view.nodeDOM(pos);
        const box = node instanceof HTMLElement ? node.getBoundingClientRect() : null;
        if (box && event.clientY <= box.bottom) return show(pos);
        pos += editor.state.doc.child(n).nodeSize;
      }
    };
    let here = -1;
    const written = () => {
      if (held.current || !editor.isFocused || !editor.isEditable) return;
      const { pos } = blockAt(editor);
      // Where it stands is measured when it is another, not with every key.
      if (pos === here) return;
      here = pos;
      show(pos);
    };
    const asked = () => {
      // A cursor that was moved a moment ago is known to the browser before it is to the editor.
      const { anchorNode, anchorOffset } = document.getSelection() ?? {};
      const known = anchorNode && dom.contains(anchorNode) ? editor.view.posAtDOM(anchorNode, anchorOffset ?? 0) : null;
      const $at = known === null ? editor.state.selection.$from : editor.state.doc.resolve(known);
      show($at.posAtIndex($at.index(0), 0));
      held.current = true;
      setOpen(true);
    };
    /** Nothing is dragged any more. The handle itself is not always told: a handle whose block was moved away may be gone by then. */
    const dropped = () => {
      held.current = false;
      setAt(null);
    };
    const frame = dom.closest('[data-letter]') ?? dom;
    frame.addEventListener('mousemove', pointed as EventListener);
    frame.addEventListener('drop', dropped);
    dom.addEventListener('inkset-block', asked);
    editor.on('selectionUpdate', written);
    if (opens.current) asked();
    opens.current = false;
    return () => {
      frame.removeEventListener('mousemove', pointed as EventListener);
      frame.removeEventListener('drop', dropped);
      dom.removeEventListener('inkset-block', asked);
      editor.off('selectionUpdate', written);
    };
  }, [editor]);
  useEffect(() => {
    held.current = open;
    if (!open) return;
    panel.current?.querySelector<HTMLElement>('button, select')?.focus();
    const away = (event: MouseEvent) => {
      if (!panel.current?.contains(event.target as Node) && !handle.current?.contains(event.target as Node)) setOpen(false);
    };
    document.addEventListener('mousedown', away);
    return () => document.removeEventListener('mousedown', away);
  }, [open]);
  const node = at ? editor.state.doc.nodeAt(at.pos) : null;
  if (!at || !node || !editor.isEditable) return null;
  const close = () => {
    setOpen(false);
    editor.commands.focus();
  };
  /** Does something with the block, which is chosen first. */
  const act = (run: () => void, stay = false) => {
    const here = editor.state.doc.nodeAt(at.pos);
    if (here) {
      if (here.isTextblock) editor.commands.setTextSelection(at.pos + 1);
      else if (here.isAtom) editor.commands.setNodeSelection(at.pos);
      else editor.commands.setTextSelection(at.pos + 2);
      run();
    }
    if (!stay) close();
  };
  return (
    <>
      <button
        ref={handle}
        type="button"
        draggable
        aria-label="This block"
        aria-haspopup="dialog"
        aria-expanded={open}
        title="Drag it, or press for what can be done with it (Alt Enter)"
        className="absolute -left-[26px] z-10 cursor-grab rounded p-0.5 text-ink-3 hover:bg-rule-2 hover:text-ink sm:-left-9"
        style={{ top: at.top + Math.min(4, at.height / 2) }}
        onClick={() => setOpen(!open)}
        onDragStart={(event) => {
          held.current = true;
          const { view } = editor;
          const selection = NodeSelection.create(view.state.doc, at.pos);
          view.dispatch(view.state.tr.setSelection(selection));
          const dom = view.nodeDOM(at.pos);
          if (dom instanceof HTMLElement) event.dataTransfer.setDragImage(dom, 0, 0);
          event.dataTransfer.effectAllowed = 'move';
          event.dataTransfer.setData('text/plain', ' ');
          view.dragging = { slice: selection.content(), move: true };
        }}
        onDragEnd={() => {
          held.current = false;
          editor.view.dragging = null;
          setAt(null);
        }}
      >
        <GripVertical size={16} aria-hidden />
      </button>
      {open && (
        <div
          ref={panel}
          role="dialog"
          aria-label="This block"
          className="absolute left-0 z-20 w-64 rounded-lg border bg-sheet p-2 font-sans text-[13.5px] shadow-lg"
          style={{ top: at.top + 30 }}
          onKeyDown={(event) => {
            if (event.key === 'Escape') close();
            event.stopPropagation();
          }}
        >
          <Acts editor={editor} pos={at.pos} act={act} />
          <Looks key={at.pos} editor={editor} pos={at.pos} name={node.type.name} look={(node.attrs.look ?? {}) as BlockLook} />
        </div>
      )}
    </>
  );
}

type ActsProps = { editor: Editor; pos: number; act: (run: () => void, stay?: boolean) => void };
function Acts({ editor, pos, act }: ActsProps) {
  const { segments } = useContext(AroundContext);
  const node = editor.state.doc.nodeAt(pos)!;
  const size = node.nodeSize;
  const acts: [string, () => void][] = [
    ['Move up', () => moveBlock(editor, -1)],
    ['Move down', () => moveBlock(editor, 1)],
    ['Duplicate', () => editor.view.dispatch(editor.state.tr.insert(pos + size, node))],
    ['Take it out', () => editor.view.dispatch(editor.state.tr.delete(pos, pos + size))],
  ];
  if (node.type.name === 'part')
    acts.push(['For everybody again', () => editor.view.dispatch(editor.state.tr.replaceWith(pos, pos + size, node.content))]);
  else if (segments.length)
    acts.push([
      'Only for some readers',
      () => {
        const part = editor.schema.nodes.part!.create({ segmentId: segments[0]!.id, inside: true }, node);
        editor.view.dispatch(editor.state.tr.replaceWith(pos, pos + size, part));
      },
    ]);
  return (
    <div className="grid grid-cols-2 gap-0.5">
      {acts.map(([name, run]) => (
        <button
          key={name}
          type="button"
          onClick={() => act(run)}
          className="rounded px-2 py-1.5 text-left hover:bg-verdigris-tint focus-visible:bg-verdigris-tint"
        >
          {name}
        </button>
      ))}
    </div>
  );
}

type LooksProps = { editor: Editor; pos: number; name: string; look: BlockLook };
/** Where the block differs from its layout; "As the layout" takes all of it back. */
function Looks({ editor, pos, name, look }: LooksProps) {
  const [own, setOwn] = useState(look);
  const may = LOOKS[name] ?? [];
  if (may.length === 0) return null;
  const change = (part: Partial<BlockLook>) => {
    const next = Object.fromEntries(Object.entries({ ...own, ...part }).filter(([, value]) => value)) as BlockLook;
    setOwn(next);
    editor.view.dispatch(editor.state.tr.setNodeAttribute(pos, 'look', Object.keys(next).length ? next : null));
  };
  const one = <K extends 'align' | 'width'>(key: K, of: readonly NonNullable<BlockLook[K]>[]) => (
    <fieldset aria-label={key === 'align' ? 'Where it stands' : 'Width'} className="flex overflow-hidden rounded-md border">
      {of.map((value) => (
        <button
          key={value}
          type="button"
          aria-pressed={own[key] === value}
          onClick={() => change({ [key]: own[key] === value ? undefined : value })}
          className={clsx('flex-1 border-r px-1.5 py-1 text-small last:border-r-0', own[key] === value && 'bg-ink text-paper')}
        >
          {SAID[value as keyof typeof SAID]}
        </button>
      ))}
    </fieldset>
  );
  const colour = (key: 'colour' | 'ground', label: string) => (
    <label className="flex items-center justify-between gap-2 text-small text-ink-2">
      {label}
      <input
        type="color"
        value={own[key] ?? (key === 'ground' ? '#fffefb' : '#1c2230')}
        onChange={(event) => change({ [key]: event.target.value })}
        className="h-7 w-12 rounded border bg-sheet"
      />
    </label>
  );
  return (
    <div className="mt-2 grid gap-2 border-t pt-2">
      {may.includes('align') && one('align', ALIGNS)}
      {may.includes('width') && one('width', WIDTHS)}
      {may.includes('colour') && colour('colour', 'Colour')}
      {may.includes('ground') && colour('ground', 'Ground')}
      <button
        type="button"
        disabled={Object.keys(own).length === 0}
        onClick={() => change({ align: undefined, width: undefined, colour: undefined, ground: undefined })}
        className="rounded px-2 py-1.5 text-left font-medium text-verdigris-ink hover:bg-verdigris-tint disabled:text-ink-3"
      >
        As the layout
      </button>
    </div>
  );
}
