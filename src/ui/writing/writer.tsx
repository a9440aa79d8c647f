'use client';

import { type Editor, EditorContent, useEditor } from '@tiptap/react';
import clsx from 'clsx';
import Link from 'next/link';
import { type ChangeEvent, type ReactNode, useCallback, useEffect, useMemo, useRef, useState } from 'react';
import { toast } from 'sonner';
import type { ActionResult } from '@/core/faults';
import { counted } from '@/core/growth/figures';
import { type Check, checksOf } from '@/core/writing/checks';
import { changeBetween, fromBlocks, fromEditor, readingMinutes, toEditor, wordsIn } from '@/core/writing/editing';
import { looksLikeMarkdown } from '@/core/writing/markdown-signs';
import { TextField } from '../kit/action-form';
import { Button, ButtonLink } from '../kit/button';
import { ActionDialog } from '../kit/dialog';
import { onDemand } from '../kit/on-demand';
import { Note } from '../kit/page';
import { Stages } from '../sending/stages';
import { BlockKeys } from './block-keys';
import { type Around, AroundContext } from './blocks';
import { Cut } from './cut';
import { extensions } from './extensions';
import { Finding } from './finding';
import { FormatBar, SlashMenu } from './inserting';
import { KEYS } from './keys';
import { Band, clock, Field, Grown, Pick, State } from './parts';
import { dropKept, type Kept, keptOf, useSaving, type Written } from './saving';

/** What is wanted later than the words themselves is fetched when it is. */
const Seen = onDemand(() => import('./seen').then((made) => made.Seen), <p className="p-8 text-ink-2">Making it …</p>);
const FindBar = onDemand(() => import('./find-bar').then((made) => made.FindBar));
const BlockMenu = onDemand(() => import('./block-menu').then((made) => made.BlockMenu));

type Props = {
  id: string;
  base: string;
  revision: number;
  savedAt: string;
  written: Written;
  senders: { id: string; label: string }[];
  layouts: { id: string; label: string }[];
  around: Omit<Around, 'takeIn'>;
  /** What it is as a web page. */
  asPage: ReactNode;
  /** What of it is shown first. */
  view: 'write' | 'preview';
  zone: string;
  me: string;
  proof: (data: FormData) => Promise<ActionResult<unknown>>;
  saveText: (data: FormData) => Promise<ActionResult<unknown>>;
};

/** The place where a letter is written: its words in the middle, what it is as an email beside them. */
export function Writer(props: Props) {
  // What this browser kept of it and the server does not have is asked for first: nothing that was typed is lost by coming back.
  const [kept, setKept] = useState<Kept[] | null>(null);
  // As the editor gives it back: what is compared with it later is written in the same order.
  const [there] = useState(() => ({ ...props.written, document: asEdited(props.written.document) }));
  useEffect(() => {
    // What a window sent as it closed is here already.
    const said = (written: Written) => JSON.stringify(Object.entries(written).sort());
    keptOf(props.id).then((all) => {
      setKept(all.filter((one) => said(one.written) !== said(there)));
      for (const one of all) if (said(one.written) === said(there)) void dropKept(one);
    });
  }, [props.id, there]);
  if (kept === null) return <p className="p-8 text-ink-2">Opening it …</p>;
  const unsaved = kept.find((one) => one.revision === props.revision) ?? null;
  const apart = kept.find((one) => one !== unsaved) ?? null;
  return <Desk {...props} written={there} unsaved={unsaved} apart={apart} />;
}

function asEdited(document: Written['document']): Written['document'] {
  const edited = fromEditor(toEditor(document));
  // Where it would hold fewer blocks than the server has, their places would be others.
  return edited.nodes.length === document.nodes.length ? edited : document;
}

/** Has a picture fetched from an address and kept by us: its own address then, or why not. */
async function fetched(base: string, address: string): Promise<{ url?: string; sentence?: string }> {
  const response = await fetch(`${base}/picture`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify({ address }),
  }).catch(() => null);
  return (await response?.json().catch(() => null)) ?? {};
}

/** Has a picture of one's own kept: its address then, or why not. */
async function sent(base: string, file: Blob): Promise<{ url?: string; sentence?: string }> {
  const response = await fetch(`${base}/picture`, {
    method: 'POST',
    headers: { 'content-type': file.type || 'application/octet-stream' },
    body: file,
  }).catch(() => null);
  return (await response?.json().catch(() => null)) ?? {};
}

/** Goes to a block, and chooses it. */
function showBlock(editor: Editor, index: number): void {
  const { doc } = editor.state;
  if (index >= doc.childCount) return;
  let pos = 0;
  for (let n = 0; n < index; n += 1) pos += doc.child(n).nodeSize;
  const node = doc.child(index);
  if (node.isAtom) editor.chain().focus().setNodeSelection(pos).run();
  else
    editor
      .chain()
      .focus()
      .setTextSelection(pos + 1)
      .run();
  const dom = editor.view.nodeDOM(pos);
  if (dom instanceof HTMLElement) dom.scrollIntoView({ block: 'center' });
}

type DeskProps = Props & { unsaved: Kept | null; apart: Kept | null };

function Desk(props: DeskProps) {
  const { id, base, revision, savedAt, written, senders, layouts, zone, me, proof, unsaved, apart: found } = props;
  const [now, setNow] = useState(written);
  const latest = useRef(written);
  const [view, setView] = useState<'write' | 'preview'>(props.view);
  const [apart, setApart] = useState(found);
  const words = useMemo(() => wordsIn(now.document), [now.document]);
  const own = useMemo(
    () => checksOf({ document: now.document, subject: now.subject ?? now.title, previewLine: now.previewLine ?? now.subtitle }),
    [now],
  );
  const known = useRef(new WeakMap());
  const editing = useRef<Editor | null>(null);
  const changing = useRef<(part: Partial<Written>) => void>(() => {});
  // What was typed since the last pause.
  const read = useCallback(() => {
    const e = editing.current;
    if (!e) return;
    const document = fromBlocks(e.state.doc.children as never, known.current);
    // Opening it adds an empty line at its end, which is none of it.
    if (changeBetween(latest.current.document.nodes, document.nodes)) changing.current({ document });
  }, []);
  const { state, mine, write, flush, takeOver } = useSaving({
    letter: id,
    saveTo: `${base}/save`,
    holdAt: `${base}/hold`,
    revision,
    at: savedAt,
    there: written.document.nodes,
    written,
    read,
  });
  const change = useCallback(
    (part: Partial<Written>) => {
      latest.current = { ...latest.current, ...part };
      setNow(latest.current);
      write(latest.current);
    },
    [write],
  );
  changing.current = change;
  const around = useMemo<Around>(
    () => ({
      ...props.around,
      takeIn: async (address) => {
        const answer = await fetched(base, address);
        if (!answer.url) toast.error(answer.sentence ?? 'The picture could not be fetched. Try again.');
        return answer.url ?? null;
      },
    }),
    [props.around, base],
  );
  // What only the server can tell is asked for once what is written is saved.
  const [facts, setFacts] = useState<Check[]>([]);
  const savedOnce = state.kind === 'saved' ? state.at : null;
  useEffect(() => {
    if (!savedOnce) return;
    const stop = new AbortController();
    const timer = setTimeout(() => {
      fetch(`${base}/checks`, { signal: stop.signal })
        .then((response) => (response.ok ? response.json() : []))
        .then((found: Check[]) => setFacts(found))
        .catch(() => undefined);
    }, 400);
    return () => {
      clearTimeout(timer);
      stop.abort();
    };
  }, [base, savedOnce]);
  const checks = facts.length ? [...own.filter((one) => one.tone !== 'fine'), ...facts] : own;
  const file = useRef<HTMLInputElement>(null);
  const pick = useCallback(() => file.current?.click(), []);
  const put = useCallback(
    async (editor: Editor, files: File[], at?: number) => {
      for (const one of files) {
        const answer = await sent(base, one);
        if (!answer.url) {
          toast.error(answer.sentence ?? 'The picture could not be sent. Try again.');
          continue;
        }
        const node = { type: 'picture', attrs: { src: answer.url, alt: '', href: '', caption: [], credit: '' } };
        if (at === undefined) editor.chain().focus().insertContent(node).run();
        else editor.chain().focus().insertContentAt(at, node).run();
      }
    },
    [base],
  );
  const kit = useMemo(() => [...extensions('Write, or type / to put something in.'), BlockKeys, Finding], []);
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  const editor = useEditor({
    extensions: kit,
    content: toEditor(written.document),
    immediatelyRender: false,
    editorProps: {
      attributes: { 'aria-label': 'The letter', class: 'letter-words', role: 'textbox', 'aria-multiline': 'true' },
      handlePaste: (_, event) => dropped(event.clipboardData) || pasted(event.clipboardData),
      handleDrop: (view, event) =>
        dropped((event as DragEvent).dataTransfer, view.posAtCoords({ left: event.clientX, top: event.clientY })?.pos),
    },
    onUpdate: () => {
      // The whole document is read on a pause, not with every letter that is typed.
      clearTimeout(timer.current);
      timer.current = setTimeout(read, 250);
    },
  });
  editing.current = editor;
  /** Puts in what this browser kept, and lets go of it under the name of the window that kept it. */
  const putIn = useCallback(
    (one: Kept) => {
      editor?.commands.setContent(toEditor(one.written.document) as never, { emitUpdate: false });
      change(one.written);
      void dropKept(one);
    },
    [editor, change],
  );
  const adopted = useRef(false);
  useEffect(() => {
    // Only once it is known that no other window is at it: what that one keeps is its own.
    if (!unsaved || !mine || !editor || adopted.current) return;
    adopted.current = true;
    putIn(unsaved);
  }, [unsaved, mine, editor, putIn]);
  function dropped(data: DataTransfer | null, at?: number): boolean {
    const files = [...(data?.files ?? [])].filter((one) => one.type.startsWith('image/'));
    if (files.length === 0 || !editing.current) return false;
    void put(editing.current, files, at);
    return true;
  }
  /** What comes from elsewhere is made into nodes first; what was copied here is the editor's own. */
  function pasted(data: DataTransfer | null): boolean {
    const e = editing.current;
    const html = data?.getData('text/html') ?? '';
    const text = data?.getData('text/plain') ?? '';
    if (!e || html.includes('data-pm-slice') || e.isActive('codeBlock') || !(html || looksLikeMarkdown(text))) return false;
    import('./pasting').then(
      async ({ keepHeld, putIn: place, readPasted }) => {
        const held = await keepHeld(html, async (file) => (await sent(base, file)).url ?? null);
        place(e, readPasted(held.html, text));
        if (held.lost)
          toast(
            `${counted(held.lost, 'picture', 'pictures')} could not be taken from the clipboard. Drag ${held.lost === 1 ? 'it' : 'them'} in from where ${held.lost === 1 ? 'it lies' : 'they lie'}.`,
          );
        void keepPictures(e);
      },
      // Without a network the reader of it cannot be fetched; its words at least stay.
      () => e.commands.insertContent(text),
    );
    return true;
  }
  /** Pictures that stand elsewhere are fetched once, and are ours from then on. */
  async function keepPictures(e: Editor): Promise<void> {
    const found = new Set<string>();
    e.state.doc.descendants((node) => {
      if (node.type.name === 'picture' && /^https?:/.test(node.attrs.src) && !node.attrs.src.includes('/e/media/'))
        found.add(node.attrs.src);
    });
    let left = 0;
    for (const src of [...found].slice(0, 500)) {
      const { url: kept } = await fetched(base, src);
      if (!kept) {
        left += 1;
        continue;
      }
      const { tr } = e.state;
      e.state.doc.descendants((node, pos) => {
        if (node.type.name === 'picture' && node.attrs.src === src) tr.setNodeAttribute(pos, 'src', kept);
      });
      e.view.dispatch(tr);
    }
    if (left)
      toast(
        `${counted(left, 'picture stays where it is', 'pictures stay where they are')}: we could not fetch ${left === 1 ? 'it' : 'them'}.`,
      );
  }
  const barred = state.kind === 'elsewhere';
  useEffect(() => {
    editor?.setEditable(!barred);
  }, [editor, barred]);
  const [wanted, setWanted] = useState<{ finding: boolean; blocks: 'near' | 'asked' | null }>({ finding: false, blocks: null });
  useEffect(() => {
    const dom = editor?.view.dom;
    if (!dom) return;
    const find = () => setWanted((old) => (old.finding ? old : { ...old, finding: true }));
    const near = () => setWanted((old) => (old.blocks ? old : { ...old, blocks: 'near' }));
    const asked = () => setWanted((old) => (old.blocks === 'asked' ? old : { ...old, blocks: 'asked' }));
    dom.addEventListener('inkset-find', find);
    dom.addEventListener('inkset-block', asked);
    for (const event of ['pointermove', 'focusin', 'keydown']) dom.addEventListener(event, near);
    return () => {
      dom.removeEventListener('inkset-find', find);
      dom.removeEventListener('inkset-block', asked);
      for (const event of ['pointermove', 'focusin', 'keydown']) dom.removeEventListener(event, near);
    };
  }, [editor]);
  const settle = useCallback(async () => {
    clearTimeout(timer.current);
    await flush();
  }, [flush]);
  useEffect(() => {
    const keys = (event: KeyboardEvent) => {
      if (!(event.ctrlKey || event.metaKey) || event.key.toLowerCase() !== 's') return;
      event.preventDefault();
      void settle();
    };
    window.addEventListener('keydown', keys);
    return () => window.removeEventListener('keydown', keys);
  }, [settle]);
  return (
    <div>
      <section
        aria-label="This letter"
        className="sticky top-0 z-10 flex flex-wrap items-center gap-x-6 gap-y-2 border-b bg-paper px-4 py-2.5 sm:px-7"
      >
        <h1 className="sr-only">{now.title || 'A letter without a title'}</h1>
        <Stages
          base={base}
          here={view === 'preview' ? 'Proof' : 'Write'}
          go={(stage) => {
            if (stage === 'Write') setView('write');
            else void settle().then(() => stage === 'Proof' && setView('preview'));
          }}
        />
        <State state={state} zone={zone} />
        <div className="ml-auto flex flex-wrap gap-2">
          <Button
            onClick={() => (view === 'write' ? void settle().then(() => setView('preview')) : setView('write'))}
            aria-pressed={view === 'preview'}
          >
            {view === 'write' ? 'See it' : 'Write on'}
          </Button>
          <ActionDialog
            opens="Send a proof"
            title="Send a proof"
            words="As readers get it, to yourself or up to five addresses. Nothing of it is counted."
            submit="Send it"
            done="It is on its way"
            action={async (data) => {
              await settle();
              return proof(data);
            }}
          >
            <TextField name="to" label="To" defaultValue={me} hint="Several with commas between them." />
          </ActionDialog>
          <ButtonLink tone="main" href={`${base}/address`}>
            Address it
          </ButtonLink>
        </div>
      </section>
      {state.kind === 'elsewhere' && (
        <Band>
          {state.sentence} You can read it here.{' '}
          <button type="button" className="link font-medium" onClick={() => void takeOver()}>
            Write here instead
          </button>
        </Band>
      )}
      {state.kind === 'refused' && <Band>{state.sentence}</Band>}
      {apart && (
        <Band>
          This browser kept something of this letter that the server does not have, from {clock(apart.at, zone)}.{' '}
          <button
            type="button"
            className="link font-medium"
            onClick={() => {
              setApart(null);
              putIn(apart);
            }}
          >
            Put it in
          </button>{' '}
          <button
            type="button"
            className="link font-medium"
            onClick={() => {
              setApart(null);
              void dropKept(apart);
            }}
          >
            Throw it away
          </button>
        </Band>
      )}
      <div className="mx-auto flex max-w-[1440px] flex-col gap-x-6 gap-y-6 px-4 py-5 sm:px-7 xl:flex-row">
        <aside aria-label="As an email" className="order-2 w-full shrink-0 xl:order-1 xl:w-[230px]">
          <h2 className="mb-3 border-b pb-1.5 font-serif text-head">As an email</h2>
          <div className="grid gap-3 sm:grid-cols-2 xl:grid-cols-1">
            <Field
              label="Subject"
              value={now.subject ?? ''}
              placeholder={now.title || 'As the title'}
              disabled={barred}
              change={(value) => change({ subject: value || null })}
              chip
            />
            <Cut subject={now.subject ?? now.title} preview={now.previewLine ?? now.subtitle} />
            <Field
              label="Preview line"
              value={now.previewLine ?? ''}
              placeholder={now.subtitle || 'As the subtitle'}
              disabled={barred}
              change={(value) => change({ previewLine: value || null })}
              chip
            />
            <Pick
              label="From"
              value={now.senderId ?? ''}
              of={senders}
              disabled={barred}
              change={(senderId) => change({ senderId })}
            />
            <Pick
              label="Layout"
              value={now.layoutId ?? ''}
              of={layouts}
              none="The usual one"
              disabled={barred}
              change={(layoutId) => change({ layoutId: layoutId || null })}
            />
          </div>
          {props.asPage}
        </aside>
        <main id="matter" tabIndex={-1} className="order-1 min-w-0 flex-1 focus:outline-none xl:order-2">
          <div
            className={clsx(
              'relative mx-auto max-w-[720px] rounded-lg border bg-sheet px-6 py-8 sm:px-14',
              view === 'preview' && 'hidden',
            )}
          >
            <Grown
              label="Title"
              value={now.title}
              placeholder="Title"
              disabled={barred}
              change={(title) => change({ title })}
              className="font-serif text-[36px] leading-[44px]"
              next={() => document.getElementById('subtitle')?.focus()}
            />
            <Grown
              id="subtitle"
              label="Subtitle"
              value={now.subtitle}
              placeholder="Subtitle"
              disabled={barred}
              change={(subtitle) => change({ subtitle })}
              className="mb-5 font-serif text-[19px] leading-7 text-ink-2 italic"
              next={() => editor?.commands.focus('start')}
            />
            {editor && wanted.finding && <FindBar editor={editor} />}
            <AroundContext value={around}>
              <div className="relative" data-letter>
                {editor && <FormatBar editor={editor} />}
                <EditorContent editor={editor} />
                {editor && <SlashMenu editor={editor} pick={pick} segments={around.segments} />}
                {editor && wanted.blocks && <BlockMenu editor={editor} asked={wanted.blocks === 'asked'} />}
              </div>
            </AroundContext>
            <input
              ref={file}
              type="file"
              accept="image/*"
              multiple
              aria-label="Pictures to put in"
              className="sr-only"
              tabIndex={-1}
              onChange={(event: ChangeEvent<HTMLInputElement>) => {
                if (editor) void put(editor, [...(event.target.files ?? [])]);
                event.target.value = '';
              }}
            />
          </div>
          {view === 'preview' && <Seen base={base} saveText={props.saveText} />}
        </main>
        <aside aria-label="Checks" className="order-3 w-full shrink-0 xl:w-[230px]">
          <h2 className="mb-2 border-b pb-1.5 font-serif text-head">Checks</h2>
          <div aria-live="polite">
            {checks.map((one) => (
              <Note key={one.title} tone={one.tone === 'stop' ? 'mend' : one.tone} title={one.title}>
                {one.words}{' '}
                {one.block !== undefined && view === 'write' && (
                  <button type="button" className="link" onClick={() => editor && showBlock(editor, one.block!)}>
                    Show it
                  </button>
                )}
              </Note>
            ))}
          </div>
          <h2 className="mt-6 mb-2 border-b pb-1.5 font-serif text-head">Reading</h2>
          <p className="text-[13px] text-ink-2">
            {counted(words, 'word', 'words')}, about {counted(readingMinutes(words), 'minute', 'minutes')}.
          </p>
          <button
            type="button"
            className="link mt-2 block text-[13px]"
            onClick={() => editor?.view.dom.dispatchEvent(new Event('inkset-find'))}
          >
            Find and replace
          </button>
          <a className="link mt-2 block text-[13px]" href={`${base}/markdown`} download>
            Take it out as Markdown
          </a>
          <Link className="link mt-2 block text-[13px]" href={`${base}/versions`} onClick={() => void settle()}>
            How it stood before
          </Link>
          <details className="mt-4 text-[13px]">
            <summary className="link cursor-pointer">Keys</summary>
            <dl className="mt-2">
              {KEYS.map(([what, keys]) => (
                <div key={what} className="border-b border-rule-2 py-1">
                  <dt className="font-semibold">{what}</dt>
                  <dd className="text-ink-2">{keys}</dd>
                </div>
              ))}
            </dl>
          </details>
        </aside>
      </div>
    </div>
  );
}
