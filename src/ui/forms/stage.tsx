'use client';

import clsx from 'clsx';
import { useCallback, useEffect, useId, useLayoutEffect, useRef, useState } from 'react';
import type { FormDefinition } from '@/core/forms/definition';
import { type Part, type PartId, textOf } from '@/core/forms/parts';
import { isOver } from '@/core/forms/placement';
import { formHtml, thanksHtml } from '@/core/forms/render';
import { imitationPage, standCss, standing } from '@/core/forms/stand';

/** The first of the settings in the margin. */
const SETTINGS = '[data-settings] :is(input,textarea,select,button)';

type Props = {
  /** The form with its newsletter's colour in it. */
  shown: FormDefinition;
  lists: { id: string; name: string }[];
  readers: number;
  after: boolean;
  /** How wide the page is that it stands on; null for as wide as there is room. */
  width: number | null;
  parts: Part[];
  /** The part that is pointed at; null while something else is looked at. */
  picked: PartId | null;
  pick: (part: PartId) => void;
  /** A text was written in its place. */
  rewrite: (part: PartId, text: string) => void;
  measured: (width: number) => void;
};

/** Only in the builder: what shows which part is meant. */
const MARKS = `[data-part]{cursor:pointer}[data-part]:hover{outline:1px dashed currentColor;outline-offset:4px}[data-part=ground]:hover{outline-offset:-4px}
.ink-here{outline:2px solid currentColor!important;outline-offset:4px;border-radius:2px}[data-part=ground].ink-here{outline-offset:-5px}
[contenteditable]{cursor:text;outline:2px solid currentColor!important;outline-offset:4px}.ink-over{animation:none!important}input,select,textarea{pointer-events:none}`;

/** The element in which a part's words are written; a button takes no cursor, so its words are written in the margin. */
const wordsIn = (part: HTMLElement): HTMLElement | null =>
  part.matches('button')
    ? null
    : part.matches('label.ink-field')
      ? part.querySelector('span')
      : (part.querySelector<HTMLElement>('legend, .ink-tick>span, a') ?? part);

/**
 * The form where it stands: on an imitation of a page, drawn by the same rules as on a real one. One points at a part, with the mouse or by walking
 * with the arrows, and writes its words where they stand.
 */
export function Stage({ shown, lists, readers, after, width, parts, picked, pick, rewrite, measured }: Props) {
  const frame = useRef<HTMLIFrameElement>(null);
  const [ready, setReady] = useState(0);
  const id = useId();
  const view = { form: shown, action: '#', lists, readers: shown.countFrom ? Math.max(shown.countFrom, readers) : undefined };
  const inner = after ? thanksHtml(shown, true) : formHtml({ ...view, marked: true });
  const css = standCss(shown);
  const html = standing(shown, inner);
  const { kind, ribbonAt } = shown.placement;
  // The page around it changes with the way it stands; everything else is put into the page that is there, so that nothing flickers.
  const [page, setPage] = useState({ key: '', doc: '' });
  const key = `${isOver(kind) ? `${kind} ${ribbonAt}` : 'in the page'} ${shown.language}`;
  if (page.key !== key) setPage({ key, doc: imitationPage(shown, inner) });

  const root = useCallback(() => frame.current?.contentDocument?.querySelector('[data-inkset-form]')?.shadowRoot ?? null, []);
  const latest = useRef({ shown, pick, rewrite, picked });
  latest.current = { shown, pick, rewrite, picked };
  /** The element whose words are being written, which must not be replaced under the cursor. */
  const writing = useRef<HTMLElement | null>(null);

  const stopWriting = useCallback(() => {
    writing.current?.removeAttribute('contenteditable');
    writing.current = null;
  }, []);

  useLayoutEffect(() => {
    const at = root();
    if (!ready || !at) return;
    const style = `${css}\n${MARKS}`;
    if (writing.current) {
      const sheet = at.querySelector('style');
      if (sheet) sheet.textContent = style;
      return;
    }
    at.innerHTML = `<style></style>${html}`;
    at.querySelector('style')!.textContent = style;
    for (const input of at.querySelectorAll('input,select,textarea,button,a')) input.setAttribute('tabindex', '-1');
    at.querySelector('.ink-close')?.setAttribute('data-part', 'close');
  }, [css, html, ready, root]);

  useLayoutEffect(() => {
    const at = root();
    if (!ready || !at) return;
    if (writing.current && writing.current.closest<HTMLElement>('[data-part]')?.dataset.part !== picked) stopWriting();
    for (const old of at.querySelectorAll('.ink-here')) old.classList.remove('ink-here');
    if (picked) at.querySelector(`[data-part="${CSS.escape(picked)}"]`)?.classList.add('ink-here');
  }, [picked, html, css, ready, root, stopWriting]);

  const begun = useRef<Document | null>(null);
  /** The page in the frame is there: listen to it. */
  const begin = useCallback(() => {
    const at = root();
    const inside = frame.current?.contentWindow;
    if (!at || !inside || begun.current === inside.document) return;
    begun.current = inside.document;
    stopWriting();
    inside.document.addEventListener('submit', (event) => event.preventDefault(), true);
    inside.document.addEventListener('mousedown', (event) => {
      const from = event.composedPath()[0] as HTMLElement;
      if (from.closest?.('[contenteditable]')) return;
      event.preventDefault();
      const part = from.closest?.<HTMLElement>('[data-part]');
      if (!part) return stopWriting();
      const name = part.dataset.part as PartId;
      latest.current.pick(name);
      stopWriting();
      const words = textOf(latest.current.shown, name) === null ? null : wordsIn(part);
      if (!words) return void requestAnimationFrame(() => document.querySelector<HTMLElement>(SETTINGS)?.focus());
      writing.current = words;
      words.setAttribute('contenteditable', 'plaintext-only');
      words.setAttribute('aria-label', 'Words');
      words.focus();
      const found = inside.document.caretRangeFromPoint?.(event.clientX, event.clientY);
      if (found && words.contains(found.startContainer))
        inside.getSelection()?.setBaseAndExtent(found.startContainer, found.startOffset, found.startContainer, found.startOffset);
    });
    inside.document.addEventListener('click', (event) => event.preventDefault(), true);
    at.addEventListener('input', () => {
      const part = writing.current?.closest<HTMLElement>('[data-part]')?.dataset.part as PartId | undefined;
      if (part) latest.current.rewrite(part, writing.current!.textContent!.replace(/\s+/g, ' '));
    });
    at.addEventListener('keydown', (event) => {
      const { key: pressed } = event as KeyboardEvent;
      if (pressed !== 'Enter' && pressed !== 'Escape') return;
      event.preventDefault();
      stopWriting();
      document.getElementById(id)?.focus();
    });
    at.addEventListener('focusout', () => {
      stopWriting();
      setReady((times) => times + 1);
    });
    setReady((times) => times + 1);
  }, [id, root, stopWriting]);

  useEffect(() => {
    const element = frame.current;
    if (!element) return;
    // The page may have been there before we were.
    if (element.contentDocument?.readyState === 'complete') begin();
    const eye = new ResizeObserver(() => measured(element.clientWidth));
    eye.observe(element);
    return () => eye.disconnect();
  }, [measured, begin]);

  const move = (by: number) => {
    const at = parts.findIndex((part) => part.id === picked);
    const next = parts[(at + by + parts.length) % parts.length];
    if (next) pick(next.id);
  };
  return (
    <div className="relative h-full overflow-auto bg-rule-2">
      <div
        id={id}
        role="listbox"
        tabIndex={0}
        aria-label="Parts of the form; the arrows walk, Enter sets"
        aria-activedescendant={picked ? `${id}-${picked}` : undefined}
        className="peer absolute inset-0 z-0 overflow-hidden focus:outline-none"
        onKeyDown={(event) => {
          const by = { ArrowDown: 1, ArrowRight: 1, ArrowUp: -1, ArrowLeft: -1 }[event.key];
          if (by) move(by);
          else if (event.key === 'Home' || event.key === 'End') pick(parts.at(event.key === 'Home' ? 0 : -1)!.id);
          else if (event.key === 'Enter') document.querySelector<HTMLElement>(SETTINGS)?.focus();
          else return;
          event.preventDefault();
        }}
      >
        {parts.map((part) => (
          <div
            key={part.id}
            id={`${id}-${part.id}`}
            role="option"
            tabIndex={-1}
            aria-selected={part.id === picked}
            className="sr-only"
          >
            {part.name}
          </div>
        ))}
      </div>
      <iframe
        ref={frame}
        title="The form on a page"
        tabIndex={-1}
        srcDoc={page.doc}
        onLoad={begin}
        style={{ width: width ?? '100%' }}
        className={clsx('relative mx-auto block h-full bg-white', width !== null && 'max-w-none')}
      />
      <span
        aria-hidden
        className="pointer-events-none absolute inset-0 z-10 hidden outline-2 -outline-offset-2 outline-verdigris peer-focus-visible:block"
        style={{ outlineStyle: 'solid' }}
      />
    </div>
  );
}
