'use client';

import clsx from 'clsx';
import Link from 'next/link';
import { type ReactNode, useCallback, useEffect, useRef, useState } from 'react';
import type { ActionResult } from '@/core/faults';
import type { Layout, LayoutNode } from '@/core/writing/layout';
import { CORNERS, FACES, type Face, LETTER_WIDTHS, type Look, ROOMS, SIZES, unreadable } from '@/core/writing/look';
import { ActionButton } from '../kit/action-form';
import { Choice, Tick, Words } from '../kit/controls';
import { ActionDialog } from '../kit/dialog';
import { Note } from '../kit/page';

type Props = {
  base: string;
  back: string;
  name: string;
  layout: Layout;
  since: string;
  usual: boolean;
  rules: string[];
  accent: string;
  letters: { id: string; label: string }[];
  makeUsual: () => Promise<ActionResult<unknown>>;
  copy: () => Promise<ActionResult<unknown>>;
  drop: () => Promise<ActionResult<unknown>>;
};

const FACE_NAMES: Record<Face, string> = {
  book: 'Book',
  old: 'Old book',
  narrow: 'Narrow book',
  plain: 'Plain',
  wide: 'Wide',
  round: 'Round',
  typewriter: 'Typewriter',
};
const facesOf = () => (Object.keys(FACES) as Face[]).map((value) => ({ value, label: FACE_NAMES[value] }));
const PAUSE_MS = 350;

/** A layout at its real size on a letter, with its settings beside it. What is changed is seen at once and kept by itself. */
export function LayoutBuilder(props: Props) {
  const { base, letters, accent } = props;
  const [name, setName] = useState(props.name);
  const [layout, setLayout] = useState(props.layout);
  const [on, setOn] = useState(letters[0]?.id ?? 'sample');
  const [html, setHtml] = useState('');
  const [phone, setPhone] = useState(false);
  const [dark, setDark] = useState(false);
  const [state, setState] = useState<'saved' | 'saving' | 'unsaved' | { fault: string }>('saved');
  const since = useRef(props.since);
  const kept = useRef(JSON.stringify([props.name, props.layout]));
  const busy = useRef(false);
  const latest = useRef({ name, layout });
  latest.current = { name, layout };
  useEffect(() => {
    const stop = new AbortController();
    const timer = setTimeout(() => {
      fetch(`${base}/see`, {
        method: 'POST',
        headers: { 'content-type': 'application/json' },
        body: JSON.stringify({ layout, on }),
        signal: stop.signal,
      })
        .then((response) => (response.ok ? response.json() : null))
        .then((made) => made && setHtml(made.html))
        .catch(() => undefined);
    }, 60);
    return () => {
      clearTimeout(timer);
      stop.abort();
    };
  }, [base, layout, on]);
  const save = useCallback(async () => {
    if (busy.current) return;
    const now = latest.current;
    const said = JSON.stringify([now.name, now.layout]);
    if (said === kept.current) return setState('saved');
    busy.current = true;
    setState('saving');
    try {
      const response = await fetch(`${base}/save`, {
        method: 'PUT',
        headers: { 'content-type': 'application/json' },
        body: JSON.stringify({ ...now, since: since.current }),
        keepalive: true,
      });
      const answer = await response.json().catch(() => null);
      if (response.ok && answer?.since) {
        since.current = answer.since;
        kept.current = said;
        setState('saved');
      } else setState({ fault: answer?.sentence ?? 'It could not be saved. Change it once more to try again.' });
    } catch {
      setState({ fault: 'We could not be reached. Change it once more to try again; nothing was lost here.' });
    } finally {
      busy.current = false;
      if (JSON.stringify([latest.current.name, latest.current.layout]) !== said) setTimeout(() => void save(), PAUSE_MS);
    }
  }, [base]);
  useEffect(() => {
    if (JSON.stringify([name, layout]) === kept.current) return;
    setState('unsaved');
    const timer = setTimeout(() => void save(), PAUSE_MS);
    return () => clearTimeout(timer);
  }, [name, layout, save]);
  useEffect(() => {
    const leaving = () => void save();
    window.addEventListener('pagehide', leaving);
    return () => {
      window.removeEventListener('pagehide', leaving);
      leaving();
    };
  }, [save]);
  const { look } = layout;
  const set = (part: Partial<Look>) => setLayout({ ...layout, look: { ...look, ...part } });
  const faint = unreadable(look, accent);
  return (
    <div className="flex flex-col gap-6 lg:flex-row">
      <div className="min-w-0 flex-1">
        <nav aria-label="Where you are" className="text-small text-ink-2">
          <Link className="link" href={props.back}>
            Layouts
          </Link>{' '}
          /
        </nav>
        <div className="mt-1 mb-3 flex flex-wrap items-end gap-x-4 gap-y-2">
          <h2 className="font-serif text-head">{name}</h2>
          <span role="status" className={clsx('text-[13px]', typeof state === 'object' ? 'text-stamp' : 'text-ink-2')}>
            {typeof state === 'object' ? state.fault : { saved: 'Saved', saving: 'Saving', unsaved: 'Not saved yet' }[state]}
          </span>
          <label className="text-small text-ink-2 sm:ml-auto">
            Seen on{' '}
            <select
              value={on}
              onChange={(event) => setOn(event.target.value)}
              className="max-w-64 rounded-md border bg-sheet px-2 py-1.5 text-[13px] text-ink"
            >
              {letters.map((letter) => (
                <option key={letter.id} value={letter.id}>
                  {letter.label}
                </option>
              ))}
            </select>
          </label>
          <Toggle on={phone} set={setPhone}>
            Phone
          </Toggle>
          <Toggle on={dark} set={setDark}>
            Dark
          </Toggle>
        </div>
        <iframe
          title="The letter in this layout"
          sandbox=""
          srcDoc={html.replace(/@media \(prefers-color-scheme:\s*dark\)/g, dark ? '@media all' : '@media not all')}
          className={clsx(
            'h-[72vh] min-h-[480px] rounded-lg border bg-white',
            phone ? 'mx-auto block w-[375px] max-w-full' : 'w-full',
          )}
        />
      </div>
      <aside aria-label="Settings of this layout" className="w-full shrink-0 space-y-5 lg:w-[296px]">
        {faint.length > 0 && (
          <Note tone="look" title="Hard to read">
            {faint.join(', ')}: too near to the ground behind. Choose a darker or a lighter colour.
          </Note>
        )}
        <Words label="Name" value={name} change={setName} />
        <Part title="What of a post">
          <Shown layout={layout} set={setLayout} />
        </Part>
        <Part title="Words">
          <Choice label="Text" value={look.text} choices={facesOf()} change={(text) => set({ text })} />
          <Choice label="Headings" value={look.headings} choices={facesOf()} change={(headings) => set({ headings })} />
          <Choice
            label="Size"
            value={String(look.size)}
            choices={SIZES.map((size) => ({ value: String(size), label: `${size} px` }))}
            change={(size) => set({ size: Number(size) as Look['size'] })}
          />
        </Part>
        <Part title="Colours">
          <div className="grid grid-cols-2 gap-2">
            {(['ink', 'soft', 'sheet', 'page'] as const).map((key) => (
              <Colour
                key={key}
                label={{ ink: 'Text', soft: 'Less important', sheet: 'Sheet', page: 'Around it' }[key]}
                value={look.colours[key]}
                change={(value) => set({ colours: { ...look.colours, [key]: value } })}
              />
            ))}
            <Colour
              label="Links and buttons"
              value={look.colours.accent || accent}
              change={(value) => set({ colours: { ...look.colours, accent: value } })}
            />
          </div>
          {look.colours.accent && (
            <button type="button" className="link text-small" onClick={() => set({ colours: { ...look.colours, accent: '' } })}>
              As the newsletter
            </button>
          )}
          <Choice
            label="Buttons"
            value={look.button}
            choices={[
              { value: 'filled', label: 'Filled' },
              { value: 'outlined', label: 'With an outline' },
            ]}
            change={(button) => set({ button })}
          />
        </Part>
        <Part title="Room">
          <Choice
            label="Width"
            value={String(look.width)}
            choices={LETTER_WIDTHS.map((width) => ({ value: String(width), label: `${width} px` }))}
            change={(width) => set({ width: Number(width) as Look['width'] })}
          />
          <Choice
            label="At either side"
            value={look.room}
            choices={(Object.keys(ROOMS) as Look['room'][]).map((value) => ({ value, label: `${value}, ${ROOMS[value]} px` }))}
            change={(room) => set({ room })}
          />
          <Choice
            label="Corners"
            value={look.corners}
            choices={Object.keys(CORNERS) as Look['corners'][]}
            change={(corners) => set({ corners })}
          />
        </Part>
        <Part title="Head">
          <Tick label="Logo" on={look.head.logo} change={(logo) => set({ head: { ...look.head, logo } })} />
          <Tick label="Name" on={look.head.name} change={(shown) => set({ head: { ...look.head, name: shown } })} />
          <Tick
            label="A link to see it in a browser"
            hint="Each reader has one of their own."
            on={look.head.see}
            change={(see) => set({ head: { ...look.head, see } })}
          />
          <Tick label="Centred" on={look.head.centred} change={(centred) => set({ head: { ...look.head, centred } })} />
        </Part>
        <Part title="Foot">
          <Words
            label="Words"
            long
            value={look.foot.words}
            change={(words) => set({ foot: { ...look.foot, words } })}
            hint="Over what every letter ends with: why it comes, your postal address, Unsubscribe."
          />
          <Tick label="Your links" on={look.foot.links} change={(links) => set({ foot: { ...look.foot, links } })} />
          <Tick label="Centred" on={look.foot.centred} change={(centred) => set({ foot: { ...look.foot, centred } })} />
          <Tick
            label="Say that Inkset sends it"
            hint="Only if you like."
            on={look.foot.credit}
            change={(credit) => set({ foot: { ...look.foot, credit } })}
          />
        </Part>
        <div className="flex flex-wrap gap-2 border-t pt-4">
          {!props.usual && (
            <ActionButton action={props.makeUsual} done="It is the usual one now">
              Make it the usual one
            </ActionButton>
          )}
          <ActionButton action={props.copy}>Make a copy</ActionButton>
          {!props.usual && props.rules.length === 0 && (
            <ActionDialog
              opens="Throw away …"
              opensTone="quiet"
              title={`Throw the layout “${name}” away?`}
              words="Letters that name it take the usual one from then on."
              submit="Throw it away"
              tone="harm"
              action={props.drop}
            />
          )}
        </div>
      </aside>
    </div>
  );
}

const Part = ({ title, children }: { title: string; children: ReactNode }) => (
  <details open className="border-t pt-3">
    <summary className="mb-2 cursor-pointer font-serif text-[17px]">{title}</summary>
    <div className="space-y-3">{children}</div>
  </details>
);

const Toggle = ({ on, set, children }: { on: boolean; set: (on: boolean) => void; children: ReactNode }) => (
  <button
    type="button"
    aria-pressed={on}
    onClick={() => set(!on)}
    className={clsx('rounded-md border px-3 py-1.5 text-[13px] font-medium', on ? 'bg-ink text-paper' : 'bg-sheet text-ink-2')}
  >
    {children}
  </button>
);

const Colour = ({ label, value, change }: { label: string; value: string; change: (value: string) => void }) => (
  <label className="text-small text-ink-2">
    {label}
    <span className="mt-0.5 flex items-center gap-1.5">
      <input
        type="color"
        value={value}
        onChange={(event) => change(event.target.value)}
        className="h-8 w-10 shrink-0 rounded border bg-sheet"
      />
      <span className="font-mono text-[12px]">{value}</span>
    </span>
  </label>
);

type Place = Extract<LayoutNode, { kind: 'post' }>;
/** The order in which the parts of a post stand. */
const ORDER: Place['part'][] = ['title', 'subtitle', 'byline', 'picture', 'summary', 'body', 'link'];
const START: Record<Place['part'], Place> = {
  title: { kind: 'post', part: 'title' },
  subtitle: { kind: 'post', part: 'subtitle' },
  byline: { kind: 'post', part: 'byline', author: true, day: true },
  picture: { kind: 'post', part: 'picture' },
  summary: { kind: 'post', part: 'summary' },
  body: { kind: 'post', part: 'body' },
  link: { kind: 'post', part: 'link', label: 'Read it on the site and say what you think' },
};

/** What of a post stands in a letter: each part in its place, or not at all. */
function Shown({ layout, set }: { layout: Layout; set: (layout: Layout) => void }) {
  const at = (part: Place['part']) => layout.nodes.findIndex((node) => node.kind === 'post' && node.part === part);
  const has = (part: Place['part']) => at(part) >= 0;
  const put = (part: Place['part'], on: boolean, place: Place = START[part]) => {
    const nodes = layout.nodes.filter((_, n) => n !== at(part));
    if (on) {
      const later = ORDER.slice(ORDER.indexOf(part) + 1);
      const before = nodes.findIndex((node) => node.kind === 'post' && later.includes(node.part));
      nodes.splice(before < 0 ? nodes.length : before, 0, place);
    }
    if (nodes.length) set({ ...layout, nodes });
  };
  const change = (part: 'link' | 'byline', more: Partial<Extract<Place, { part: 'link' | 'byline' }>>) =>
    set({ ...layout, nodes: layout.nodes.map((node, n) => (n === at(part) ? ({ ...node, ...more } as LayoutNode) : node)) });
  const byline = layout.nodes[at('byline')] as Extract<Place, { part: 'byline' }> | undefined;
  const link = layout.nodes[at('link')] as Extract<Place, { part: 'link' }> | undefined;
  const whole = has('body');
  return (
    <>
      <Tick label="Title" on={has('title')} change={(on) => put('title', on)} />
      <Tick label="Subtitle" on={has('subtitle')} change={(on) => put('subtitle', on)} />
      <Tick
        label="Author"
        on={byline?.author ?? false}
        change={(author) =>
          byline
            ? author || byline.day
              ? change('byline', { author })
              : put('byline', false)
            : put('byline', true, { kind: 'post', part: 'byline', author, day: false })
        }
      />
      <Tick
        label="Day"
        on={byline?.day ?? false}
        change={(day) =>
          byline
            ? day || byline.author
              ? change('byline', { day })
              : put('byline', false)
            : put('byline', true, { kind: 'post', part: 'byline', author: false, day })
        }
      />
      <Tick label="Picture" on={has('picture')} change={(on) => put('picture', on)} />
      <Choice
        label="Its words"
        value={whole ? 'whole' : 'summary'}
        choices={[
          { value: 'whole', label: 'All of them' },
          { value: 'summary', label: 'A summary, with a link' },
        ]}
        change={(value) => {
          const part = value === 'whole' ? 'body' : 'summary';
          const other = value === 'whole' ? 'summary' : 'body';
          set({
            ...layout,
            nodes: has(other)
              ? layout.nodes.map((node, n) => (n === at(other) ? START[part] : node))
              : [...layout.nodes, START[part]],
          });
        }}
      />
      <Tick label="A link back to it" on={link !== undefined} change={(on) => put('link', on)} />
      {link && (
        <Words
          label="Words of the link"
          value={link.label}
          change={(label) => change('link', { label })}
          hint="An invitation to comment, for example."
        />
      )}
    </>
  );
}
