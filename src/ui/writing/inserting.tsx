'use client';

import type { Editor } from '@tiptap/react';
import clsx from 'clsx';
import { useEffect, useMemo, useState } from 'react';

type Insert = { name: string; words: string; run: (editor: Editor, pick: () => void) => void };
/** Puts a node in where the cursor stands. */
const put = (editor: Editor, content: object): void => void editor.chain().focus().insertContent(content).run();

const P = { type: 'paragraph' };
/** What can be put in, in the order of how often it is. */
const INSERTS: Insert[] = [
  { name: 'Picture', words: 'image photo', run: (_, pick) => pick() },
  { name: 'Heading', words: 'title section', run: (e) => e.chain().focus().setHeading({ level: 2 }).run() },
  { name: 'Small heading', words: 'title section', run: (e) => e.chain().focus().setHeading({ level: 3 }).run() },
  { name: 'List', words: 'bullets points', run: (e) => e.chain().focus().toggleBulletList().run() },
  { name: 'Numbered list', words: 'ordered steps', run: (e) => e.chain().focus().toggleOrderedList().run() },
  { name: 'Quote', words: 'citation', run: (e) => e.chain().focus().toggleBlockquote().run() },
  {
    name: 'Pull quote',
    words: 'large words',
    run: (e) =>
      e
        .chain()
        .focus()
        .insertContent({ type: 'pullQuote', attrs: { by: '' } })
        .run(),
  },
  { name: 'Button', words: 'link act', run: (e) => e.chain().focus().insertContent({ type: 'actButton' }).run() },
  {
    name: 'Name of the reader',
    words: 'chip merge first name',
    run: (e) =>
      e
        .chain()
        .focus()
        .insertContent({ type: 'chip', attrs: { field: 'first_name', fallback: 'reader' } })
        .run(),
  },
  { name: 'Footnote', words: 'note reference', run: (e) => put(e, { type: 'note' }) },
  { name: 'Divider', words: 'line rule', run: (e) => e.chain().focus().setHorizontalRule().run() },
  {
    name: 'Call-out',
    words: 'box note aside',
    run: (e) =>
      e
        .chain()
        .focus()
        .insertContent({ type: 'callOut', content: [P] })
        .run(),
  },
  {
    name: 'Two columns',
    words: 'side by side',
    run: (e) =>
      e
        .chain()
        .focus()
        .insertContent({ type: 'columns', content: [0, 1].map(() => ({ type: 'column', content: [P] })) })
        .run(),
  },
  {
    name: 'Table',
    words: 'rows grid',
    run: (e) => e.chain().focus().insertTable({ rows: 3, cols: 2, withHeaderRow: true }).run(),
  },
  { name: 'Card', words: 'video audio embed link', run: (e) => e.chain().focus().insertContent({ type: 'card' }).run() },
  { name: 'Space', words: 'gap room', run: (e) => e.chain().focus().insertContent({ type: 'spacer' }).run() },
  { name: 'Newest posts', words: 'latest list site', run: (e) => put(e, { type: 'latest' }) },
  { name: 'Sign-up form', words: 'join subscribe page', run: (e) => put(e, { type: 'signUp' }) },
  { name: 'Picture from an address', words: 'image photo link', run: (e) => put(e, { type: 'picture' }) },
  { name: 'HTML', words: 'own source raw', run: (e) => put(e, { type: 'html' }) },
  { name: 'Code', words: 'program', run: (e) => e.chain().focus().toggleCodeBlock().run() },
];

/** What stands behind a slash at the beginning of a line, and where that is; null elsewhere. */
function slashOf(editor: Editor): { query: string; from: number; to: number } | null {
  const { selection } = editor.state;
  const { $from, empty } = selection;
  if (!empty || $from.parent.type.name !== 'paragraph') return null;
  const text = $from.parent.textBetween(0, $from.parentOffset, undefined, '\ufffc');
  const match = /^\/([\p{L} -]{0,24})$/u.exec(text);
  return match ? { query: match[1]!.toLowerCase(), from: $from.start(), to: $from.pos } : null;
}

/** A menu under a slash: arrows choose, Enter puts in, Escape closes; letters narrow it. */
type SlashProps = { editor: Editor; pick: () => void; segments: { id: string; label: string }[] };
export function SlashMenu({ editor, pick, segments }: SlashProps) {
  const [at, setAt] = useState<{ query: string; from: number; to: number; left: number; top: number } | null>(null);
  const [chosen, setChosen] = useState(0);
  const [closed, setClosed] = useState(-1);
  useEffect(() => {
    const look = () => {
      const slash = editor.isFocused ? slashOf(editor) : null;
      if (!slash) {
        setClosed(-1);
        return setAt(null);
      }
      const { left, bottom } = editor.view.coordsAtPos(slash.from);
      const frame = editor.view.dom.getBoundingClientRect();
      setAt({ ...slash, left: left - frame.left, top: bottom - frame.top + 6 });
      setChosen(0);
    };
    editor.on('transaction', look);
    editor.on('blur', look);
    return () => {
      editor.off('transaction', look);
      editor.off('blur', look);
    };
  }, [editor]);
  const all = useMemo(
    () =>
      segments[0]
        ? [
            ...INSERTS,
            {
              name: 'Part for some readers',
              words: 'segment conditional only',
              run: (e: Editor) => put(e, { type: 'part', attrs: { segmentId: segments[0]!.id, inside: true }, content: [P] }),
            },
          ]
        : INSERTS,
    [segments],
  );
  const found = useMemo(
    () => all.filter(({ name, words }) => `${name} ${words}`.toLowerCase().includes(at?.query ?? '')).slice(0, 12),
    [all, at?.query],
  );
  const open = at !== null && closed !== at.from && found.length > 0;
  useEffect(() => {
    if (!open || !at) return;
    const put = (one: Insert) => {
      editor.chain().focus().deleteRange({ from: at.from, to: at.to }).run();
      one.run(editor, pick);
    };
    const keys = (event: KeyboardEvent) => {
      if (event.key === 'ArrowDown' || event.key === 'ArrowUp')
        setChosen((n) => (n + (event.key === 'ArrowDown' ? 1 : found.length - 1)) % found.length);
      else if (event.key === 'Enter' || event.key === 'Tab') put(found[chosen] ?? found[0]!);
      else if (event.key === 'Escape') setClosed(at.from);
      else return;
      event.preventDefault();
      event.stopPropagation();
    };
    const dom = editor.view.dom;
    dom.addEventListener('keydown', keys, true);
    return () => dom.removeEventListener('keydown', keys, true);
  }, [open, at, found, chosen, editor, pick]);
  if (!open || !at) return null;
  return (
    <div
      role="listbox"
      aria-label="Put in"
      className="absolute z-20 grid w-80 max-w-full grid-cols-2 gap-0.5 rounded-lg border bg-sheet p-1.5 font-sans text-[13.5px] shadow-lg"
      style={{ left: Math.max(0, Math.min(at.left, 260)), top: at.top }}
    >
      {found.map((one, n) => (
        <button
          key={one.name}
          type="button"
          role="option"
          aria-selected={n === chosen}
          onMouseDown={(event) => {
            event.preventDefault();
            editor.chain().focus().deleteRange({ from: at.from, to: at.to }).run();
            one.run(editor, pick);
          }}
          className={clsx('rounded px-2 py-1.5 text-left', n === chosen && 'bg-verdigris-tint')}
        >
          {one.name}
        </button>
      ))}
    </div>
  );
}

const FORMATS: { mark: string; label: string; sign: string; keys: string; run: (editor: Editor) => void }[] = [
  { mark: 'bold', label: 'Bold', sign: 'B', keys: 'Ctrl B', run: (e) => e.chain().focus().toggleBold().run() },
  { mark: 'italic', label: 'Italic', sign: 'I', keys: 'Ctrl I', run: (e) => e.chain().focus().toggleItalic().run() },
  { mark: 'underline', label: 'Underline', sign: 'U', keys: 'Ctrl U', run: (e) => e.chain().focus().toggleUnderline().run() },
  {
    mark: 'strike',
    label: 'Strike through',
    sign: 'S',
    keys: 'Ctrl Shift S',
    run: (e) => e.chain().focus().toggleStrike().run(),
  },
  { mark: 'code', label: 'Code', sign: '<>', keys: 'Ctrl E', run: (e) => e.chain().focus().toggleCode().run() },
];
/** The bar over chosen words. */
export function FormatBar({ editor }: { editor: Editor }) {
  const [at, setAt] = useState<{ left: number; top: number } | null>(null);
  const [link, setLink] = useState<string | null>(null);
  useEffect(() => {
    const look = () => {
      const { from, to, empty } = editor.state.selection;
      if (empty || !editor.isEditable || !editor.state.doc.textBetween(from, to)) {
        setLink(null);
        return setAt(null);
      }
      const { left, top } = editor.view.coordsAtPos(from);
      const frame = editor.view.dom.getBoundingClientRect();
      setAt({ left: Math.max(0, Math.min(left - frame.left, frame.width - 300)), top: top - frame.top - 46 });
    };
    const open = () => setLink(String(editor.getAttributes('link').href ?? ''));
    editor.on('selectionUpdate', look);
    editor.view.dom.addEventListener('inkset-link', open);
    return () => {
      editor.off('selectionUpdate', look);
      editor.view.dom.removeEventListener('inkset-link', open);
    };
  }, [editor]);
  if (!at) return null;
  const done = () => {
    const href = (link ?? '').trim();
    const chain = editor.chain().focus().extendMarkRange('link');
    if (href === '') chain.unsetLink().run();
    else
      chain
        .setLink({ href: /^(https?:|mailto:)/i.test(href) ? href : href.includes('@') ? `mailto:${href}` : `https://${href}` })
        .run();
    setLink(null);
  };
  return (
    <div
      role="toolbar"
      aria-label="Format"
      className="absolute z-20 flex items-center gap-0.5 rounded-md border bg-sheet p-1 font-sans text-[13px] shadow-lg"
      style={at}
    >
      {link === null ? (
        <>
          {FORMATS.map(({ mark, label, sign, run }) => (
            <button
              key={mark}
              type="button"
              aria-label={label}
              aria-pressed={editor.isActive(mark)}
              onMouseDown={(event) => {
                event.preventDefault();
                run(editor);
              }}
              className="min-w-8 rounded px-2 py-1 font-semibold aria-pressed:bg-verdigris-tint"
            >
              {sign}
            </button>
          ))}
          <button
            type="button"
            aria-pressed={editor.isActive('link')}
            onMouseDown={(event) => {
              event.preventDefault();
              setLink(String(editor.getAttributes('link').href ?? ''));
            }}
            className="rounded px-2 py-1 font-semibold aria-pressed:bg-verdigris-tint"
          >
            Link
          </button>
        </>
      ) : (
        <form
          onSubmit={(event) => {
            event.preventDefault();
            done();
          }}
          className="flex gap-1"
        >
          <input
            // biome-ignore lint/a11y/noAutofocus: whoever asked for a link types its address next
            autoFocus
            aria-label="Address of the link"
            value={link}
            placeholder="https://"
            onChange={(event) => setLink(event.target.value)}
            onKeyDown={(event) => {
              if (event.key === 'Escape') {
                setLink(null);
                editor.commands.focus();
              }
            }}
            className="w-56 rounded border bg-paper px-2 py-1"
          />
          <button type="submit" className="rounded bg-verdigris px-2 py-1 font-semibold text-sheet">
            Set
          </button>
        </form>
      )}
    </div>
  );
}
