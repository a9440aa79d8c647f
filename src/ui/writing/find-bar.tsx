'use client';

import type { Editor } from '@tiptap/core';
import { useCallback, useEffect, useRef, useState } from 'react';
import { counted } from '@/core/growth/figures';
import { type Found, finding, NOTHING } from './finding';

/** The bar that finds and replaces; it comes with Ctrl H, which is why it is fetched, and goes with Escape. */
export function FindBar({ editor }: { editor: Editor }) {
  const [open, setOpen] = useState(true);
  const [query, setQuery] = useState('');
  const [by, setBy] = useState('');
  const [exact, setExact] = useState(false);
  const [found, setFound] = useState({ count: 0, at: 0 });
  const field = useRef<HTMLInputElement>(null);
  const tell = useCallback(
    (meta: Partial<Found>) => {
      editor.view.dispatch(editor.state.tr.setMeta(finding, meta));
    },
    [editor],
  );
  useEffect(() => {
    const show = () => {
      const { from, to } = editor.state.selection;
      const chosen = editor.state.doc.textBetween(from, to);
      if (chosen && !chosen.includes('\n')) setQuery(chosen);
      setOpen(true);
      setTimeout(() => field.current?.select(), 0);
    };
    const look = () => {
      const { places, at } = finding.getState(editor.state) ?? NOTHING;
      setFound((old) => (old.count === places.length && old.at === at ? old : { count: places.length, at }));
    };
    const { dom } = editor.view;
    show();
    dom.addEventListener('inkset-find', show);
    editor.on('transaction', look);
    return () => {
      dom.removeEventListener('inkset-find', show);
      editor.off('transaction', look);
    };
  }, [editor]);
  useEffect(() => {
    tell({ query: open ? query : '', exact, at: 0 });
  }, [open, query, exact, tell]);
  const step = (by: -1 | 1) => {
    const { places, at } = finding.getState(editor.state) ?? NOTHING;
    if (places.length === 0) return;
    const next = (at + by + places.length) % places.length;
    tell({ at: next });
    const node = editor.view.domAtPos(places[next]!.from).node;
    (node instanceof Element ? node : node.parentElement)?.scrollIntoView({ block: 'center' });
  };
  const replace = (all: boolean) => {
    const { places, at } = finding.getState(editor.state) ?? NOTHING;
    const { tr } = editor.state;
    // From the end, so that no place moves before its turn; the marks of what goes are those of what comes.
    for (const place of (all ? [...places] : places.slice(at, at + 1)).reverse()) {
      if (by) tr.insertText(by, place.from, place.to);
      else tr.delete(place.from, place.to);
    }
    editor.view.dispatch(tr);
    // A button with nothing left to do gives the keys away.
    field.current?.focus();
  };
  const close = () => {
    setOpen(false);
    editor.commands.focus();
  };
  if (!open) return null;
  const box = 'min-w-0 flex-1 rounded-md border bg-sheet px-2.5 py-1.5';
  const act = 'rounded-md border px-2.5 py-1.5 font-medium disabled:opacity-50';
  return (
    <search
      aria-label="Find and replace"
      className="sticky top-16 z-10 mb-4 grid gap-2 rounded-lg border bg-paper p-2.5 font-sans text-[13px] shadow-lg"
      onKeyDown={(event) => {
        if (event.key === 'Escape') close();
      }}
    >
      <div className="flex flex-wrap items-center gap-2">
        <input
          ref={field}
          aria-label="Find"
          placeholder="Find"
          value={query}
          onChange={(event) => setQuery(event.target.value)}
          onKeyDown={(event) => {
            if (event.key !== 'Enter') return;
            event.preventDefault();
            step(event.shiftKey ? -1 : 1);
          }}
          className={box}
        />
        <label className="flex items-center gap-1.5 text-ink-2">
          <input
            type="checkbox"
            checked={exact}
            onChange={(event) => setExact(event.target.checked)}
            className="size-4 accent-verdigris"
          />
          Capitals matter
        </label>
        <span role="status" className="text-ink-2">
          {query && (found.count === 0 ? 'Nowhere' : `${found.at + 1} of ${counted(found.count, 'place', 'places')}`)}
        </span>
        <button type="button" className={act} disabled={!found.count} onClick={() => step(-1)}>
          Before
        </button>
        <button type="button" className={act} disabled={!found.count} onClick={() => step(1)}>
          Next
        </button>
        <button type="button" className={act} onClick={close}>
          Close
        </button>
      </div>
      <div className="flex flex-wrap items-center gap-2">
        <input
          aria-label="Replace by"
          placeholder="Replace by"
          value={by}
          onChange={(event) => setBy(event.target.value)}
          className={box}
        />
        <button type="button" className={act} disabled={!found.count || !editor.isEditable} onClick={() => replace(false)}>
          Replace
        </button>
        <button type="button" className={act} disabled={!found.count || !editor.isEditable} onClick={() => replace(true)}>
          Replace all
        </button>
      </div>
    </search>
  );
}
