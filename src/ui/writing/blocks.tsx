'use client';

import { NodeViewContent, type NodeViewProps, NodeViewWrapper } from '@tiptap/react';
import clsx from 'clsx';
import { createContext, useContext, useId, useState } from 'react';
import type { BlockLook, Inline } from '@/core/writing/document';
import { inkOn } from '@/core/writing/look';

const said = (caption: unknown): string =>
  Array.isArray(caption) ? (caption as Inline[]).map((one) => (one.kind === 'text' ? one.text : '')).join('') : '';

type Named = { id: string; label: string };
/** What blocks name that stands elsewhere: segments, forms, what readers are asked; and how a picture is fetched from an address and kept. */
export type Around = {
  segments: Named[];
  forms: Named[];
  fields: Named[];
  takeIn: (address: string) => Promise<string | null>;
};
export const AroundContext = createContext<Around>({ segments: [], forms: [], fields: [], takeIn: async () => null });

type LineProps = { label: string; value: string; change: (value: string) => void; placeholder?: string };
/** One setting of a block. Keys that the editor would take stay in it. */
function Line({ label, value, change, placeholder }: LineProps) {
  const id = useId();
  return (
    <label htmlFor={id} className="block min-w-40 flex-1 text-small">
      <span className="mb-0.5 block font-semibold text-ink-2">{label}</span>
      <input
        id={id}
        value={value}
        placeholder={placeholder}
        onChange={(event) => change(event.target.value)}
        onKeyDown={(event) => event.stopPropagation()}
        className="block w-full rounded-md border bg-sheet px-2 py-1 font-sans text-[13px] leading-5 not-italic"
      />
    </label>
  );
}

const SELECT = 'rounded-md border bg-sheet px-2 py-1 font-sans text-[13px] not-italic';
type PickProps = { label: string; value: string; of: Named[]; change: (value: string) => void; none?: string };
/** One of some, in a block's settings. */
function Pick({ label, value, of, change, none }: PickProps) {
  return (
    <label className="text-small font-semibold text-ink-2">
      {label}{' '}
      <select
        value={value}
        onChange={(event) => change(event.target.value)}
        onKeyDown={(event) => event.stopPropagation()}
        className={SELECT}
      >
        {none !== undefined && <option value="">{none}</option>}
        {of.map((one) => (
          <option key={one.id} value={one.id}>
            {one.label}
          </option>
        ))}
      </select>
    </label>
  );
}

/** Where a picture comes from that stands elsewhere: it is fetched once and kept by us. */
function FromAddress({ change }: { change: (src: string) => void }) {
  const { takeIn } = useContext(AroundContext);
  const [address, setAddress] = useState('');
  const [busy, setBusy] = useState(false);
  const take = async () => {
    setBusy(true);
    const src = await takeIn(address);
    setBusy(false);
    if (src) change(src);
  };
  return (
    <>
      <Line label="Its address" value={address} change={setAddress} placeholder="https://" />
      <button
        type="button"
        disabled={busy || !/^https?:\/\/./i.test(address)}
        onClick={() => void take()}
        className="self-end rounded-md bg-verdigris px-3 py-1.5 text-[13px] font-semibold text-sheet disabled:opacity-50"
      >
        {busy ? 'Fetching it' : 'Take it in'}
      </button>
    </>
  );
}

/** A thing among the text as readers see it, with its settings beneath while it is chosen. */
export function Block({ node, selected, updateAttributes, editor }: NodeViewProps) {
  const attrs = node.attrs as Record<string, string> & { pictures?: { src: string; alt: string }[]; caption?: unknown };
  const around = useContext(AroundContext);
  const set = (name: string) => (value: string) => updateAttributes({ [name]: value });
  const settings = selected && editor.isEditable;
  return (
    <NodeViewWrapper
      data-drag-handle
      className={clsx('my-4 rounded-md outline-offset-4', selected && 'outline-2 outline-verdigris')}
      aria-label={NAMES[node.type.name] ?? 'Block'}
    >
      <Shown name={node.type.name} attrs={attrs} />
      {settings && (
        <div className="mt-2 flex flex-wrap gap-2 rounded-md border bg-paper p-2.5 font-sans" contentEditable={false}>
          {node.type.name === 'picture' && !attrs.src && <FromAddress change={set('src')} />}
          {node.type.name === 'picture' && attrs.src && (
            <>
              <Line
                label="Description"
                value={attrs.alt ?? ''}
                change={set('alt')}
                placeholder="What it shows, for who cannot see it"
              />
              <Line
                label="Caption"
                value={said(attrs.caption)}
                change={(text) => updateAttributes({ caption: text ? [{ kind: 'text', text }] : [] })}
              />
              <Line label="Credit" value={attrs.credit ?? ''} change={set('credit')} placeholder="Who made it, or whose it is" />
              <Line label="Leads to" value={attrs.href ?? ''} change={set('href')} placeholder="https://" />
            </>
          )}
          {node.type.name === 'actButton' && (
            <>
              <Line label="Button" value={attrs.label ?? ''} change={set('label')} />
              <Line label="Leads to" value={attrs.href ?? ''} change={set('href')} placeholder="https://" />
            </>
          )}
          {node.type.name === 'card' && (
            <>
              <Line label="Leads to" value={attrs.href ?? ''} change={set('href')} placeholder="https://" />
              <Line label="Title" value={attrs.title ?? ''} change={set('title')} />
              <Line label="Words" value={attrs.words ?? ''} change={set('words')} />
              <Line label="Picture’s address" value={attrs.picture ?? ''} change={set('picture')} placeholder="https://" />
            </>
          )}
          {node.type.name === 'gallery' &&
            (attrs.pictures ?? []).map((picture, n) => (
              <Line
                key={picture.src}
                label={`Description ${n + 1}`}
                value={picture.alt}
                change={(alt) =>
                  updateAttributes({ pictures: (attrs.pictures ?? []).map((one, k) => (k === n ? { ...one, alt } : one)) })
                }
              />
            ))}
          {node.type.name === 'latest' && (
            <>
              <Pick
                label="How many"
                value={String(attrs.most)}
                of={[1, 2, 3, 4, 5, 6, 8, 10].map((n) => ({ id: String(n), label: String(n) }))}
                change={(most) => updateAttributes({ most: Number(most) })}
              />
              <label className="flex items-center gap-1.5 text-small font-semibold text-ink-2">
                <input
                  type="checkbox"
                  checked={Boolean(attrs.words)}
                  onChange={(event) => updateAttributes({ words: event.target.checked })}
                  className="size-4 accent-verdigris"
                />
                with what each is about
              </label>
            </>
          )}
          {node.type.name === 'signUp' && (
            <Pick
              label="Form"
              value={attrs.formId ?? ''}
              of={around.forms}
              none="The newsletter’s own"
              change={(formId) => updateAttributes({ formId: formId || null })}
            />
          )}
          {node.type.name === 'html' && (
            <label className="block w-full text-small">
              <span className="mb-0.5 block font-semibold text-ink-2">HTML</span>
              <textarea
                rows={8}
                spellCheck={false}
                value={attrs.html ?? ''}
                onChange={(event) => updateAttributes({ html: event.target.value })}
                onKeyDown={(event) => event.stopPropagation()}
                className="block w-full rounded-md border bg-sheet px-2 py-1 font-mono text-[12.5px] leading-5 not-italic"
              />
              <span className="mt-1 block text-ink-2">
                Scripts, forms, frames and style sheets are taken out. Mail programs differ in what they show of the rest: send
                yourself a proof.
              </span>
            </label>
          )}
          {node.type.name === 'spacer' && (
            <label className="text-small font-semibold text-ink-2">
              Room{' '}
              <select
                value={attrs.size}
                onChange={(event) => updateAttributes({ size: event.target.value })}
                className="rounded-md border bg-sheet px-2 py-1 text-[13px]"
              >
                <option value="small">small</option>
                <option value="medium">medium</option>
                <option value="large">large</option>
              </select>
            </label>
          )}
        </div>
      )}
    </NodeViewWrapper>
  );
}

const NAMES: Record<string, string> = {
  picture: 'Picture',
  gallery: 'Gallery',
  card: 'Card',
  actButton: 'Button',
  spacer: 'Space',
  latest: 'The newest posts',
  signUp: 'Sign-up form',
  html: 'HTML',
  kept: 'Kept as it is',
};

const STAND_IN = 'rounded border border-dashed p-3 font-sans text-small text-ink-2';

function Shown({ name, attrs }: { name: string; attrs: Record<string, unknown> }) {
  const text = (key: string) => String(attrs[key] ?? '');
  switch (name) {
    case 'picture': {
      const { align, width } = (attrs.look ?? {}) as BlockLook;
      if (!text('src')) return <p className={STAND_IN}>A picture from an address: choose this, and say where it is.</p>;
      return (
        <figure
          className={clsx(
            width === 'half' && 'max-w-[50%]',
            width === 'third' && 'max-w-[33.33%]',
            align === 'centre' && 'mx-auto text-center',
            align === 'end' && 'ms-auto text-end',
          )}
        >
          <img src={text('src')} alt={text('alt')} className="max-h-[460px] w-full rounded object-contain" />
          {(said(attrs.caption) || text('credit')) && (
            <figcaption className="mt-1 font-sans text-small text-ink-2">
              {said(attrs.caption)}
              {text('credit') && <span className="block text-[12px]">{text('credit')}</span>}
            </figcaption>
          )}
        </figure>
      );
    }
    case 'gallery':
      return (
        <div className="grid grid-cols-2 gap-2.5">
          {((attrs.pictures as { src: string; alt: string }[]) ?? []).map((picture) => (
            <img key={picture.src} src={picture.src} alt={picture.alt} className="w-full rounded" />
          ))}
        </div>
      );
    case 'card':
      return (
        <div className="rounded border bg-sheet">
          {/^https?:\/\/./.test(text('picture')) && <img src={text('picture')} alt="" className="w-full rounded-t" />}
          <p className="px-4 pt-3 font-serif text-[19px] text-verdigris underline">{text('title') || text('href')}</p>
          <p className="px-4 pb-3 text-ink-2">{text('words')}</p>
        </div>
      );
    case 'actButton': {
      const { align, colour } = (attrs.look ?? {}) as BlockLook;
      return (
        <div className={clsx(align === 'centre' && 'text-center', align === 'end' && 'text-end')}>
          <span
            className="inline-block rounded bg-verdigris px-[18px] py-3 font-sans text-[15px] font-semibold text-sheet"
            style={colour ? { background: colour, color: inkOn(colour) } : undefined}
          >
            {text('label')}
          </span>
        </div>
      );
    }
    case 'latest':
      return <p className={STAND_IN}>The newest {text('most')} posts stand here, as they are when it leaves.</p>;
    case 'signUp':
      return <p className={STAND_IN}>A sign-up form stands here on the page. In the letter there is nothing.</p>;
    case 'html':
      return (
        <pre className="max-h-60 overflow-auto rounded border border-dashed p-3 font-mono text-[12.5px] leading-5 whitespace-pre-wrap">
          {text('html') || 'HTML of your own: choose this to write it.'}
        </pre>
      );
    case 'spacer':
      return (
        <div aria-hidden className={clsx('rounded bg-rule-2/40', { small: 'h-3', medium: 'h-7', large: 'h-14' }[text('size')])} />
      );
    default:
      return <p className={STAND_IN}>Of another version: kept as it is.</p>;
  }
}

/** Blocks for some readers alone, under who they are. */
export function Part({ node, updateAttributes, editor }: NodeViewProps) {
  const { segments } = useContext(AroundContext);
  const { segmentId, inside } = node.attrs as { segmentId: string; inside: boolean };
  const gone = !segments.some((one) => one.id === segmentId);
  return (
    <NodeViewWrapper className="rounded-md border border-dashed border-verdigris/60 p-3">
      <div contentEditable={false} className="mb-2 flex flex-wrap items-center gap-x-2 gap-y-1 font-sans text-small text-ink-2">
        <select
          aria-label="For whom"
          value={inside ? 'in' : 'out'}
          disabled={!editor.isEditable}
          onChange={(event) => updateAttributes({ inside: event.target.value === 'in' })}
          className={SELECT}
        >
          <option value="in">Only for</option>
          <option value="out">For everybody but</option>
        </select>
        <select
          aria-label="Segment"
          value={gone ? '' : segmentId}
          disabled={!editor.isEditable}
          onChange={(event) => updateAttributes({ segmentId: event.target.value })}
          className={SELECT}
        >
          {gone && <option value="">a segment that is gone</option>}
          {segments.map((one) => (
            <option key={one.id} value={one.id}>
              {one.label}
            </option>
          ))}
        </select>
      </div>
      <NodeViewContent className="part-words" />
    </NodeViewWrapper>
  );
}

/** A footnote, by its number where it stands; its words are set where it is chosen. */
export function Footnote({ node, selected, updateAttributes, editor }: NodeViewProps) {
  return (
    <NodeViewWrapper as="span" className="relative">
      <sup
        className={clsx(
          'letter-note cursor-pointer rounded bg-verdigris-tint px-1 font-sans text-[0.62em] font-semibold text-verdigris-ink',
          selected && 'outline-2 outline-verdigris',
        )}
        title={said(node.attrs.words)}
      />
      {selected && editor.isEditable && (
        <span
          contentEditable={false}
          className="absolute top-full left-0 z-10 mt-1 block w-72 rounded-md border bg-sheet p-2.5 shadow-lg"
        >
          <Line
            label="Footnote"
            value={said(node.attrs.words)}
            change={(text) => updateAttributes({ words: text ? [{ kind: 'text', text }] : [] })}
          />
        </span>
      )}
    </NodeViewWrapper>
  );
}

/** A place that is filled for each reader. */
export function Chip({ node, selected, updateAttributes, editor }: NodeViewProps) {
  const { fields } = useContext(AroundContext);
  const { field, fallback } = node.attrs as { field: string; fallback: string };
  return (
    <NodeViewWrapper as="span" className="relative">
      <span
        className={clsx(
          'rounded bg-verdigris-tint px-1.5 py-px font-sans text-[0.82em] font-semibold text-verdigris',
          selected && 'outline-2 outline-verdigris',
        )}
      >
        {field.replace(/_/g, ' ')}
        {fallback ? `, or “${fallback}”` : ', or nothing'}
      </span>
      {selected && editor.isEditable && (
        <span
          contentEditable={false}
          className="absolute top-full left-0 z-10 mt-1 block w-56 rounded-md border bg-sheet p-2.5 shadow-lg"
        >
          <Pick label="What" value={field} of={fields} change={(chosen) => updateAttributes({ field: chosen })} />
          <Line
            label="For who gave none"
            value={fallback}
            change={(value) => updateAttributes({ fallback: value })}
            placeholder="reader"
          />
        </span>
      )}
    </NodeViewWrapper>
  );
}
