'use client';

import clsx from 'clsx';
import { type ReactNode, useState } from 'react';
import { pieces } from '@/core/writing/slots';

const VIEWS = ['Clicks', 'Email', 'Phone', 'Dark', 'Pictures off', 'Web page', 'Plain text'] as const;
type View = (typeof VIEWS)[number];

/** Slots shown as what they are: links lead nowhere in a preview, the counting picture is left out. */
const shown = (template: string, link = '#') =>
  pieces(template)
    .map((piece) => (piece.kind === 'text' ? piece.text : piece.name === 'pixel' ? 'data:,' : link))
    .join('');

/** The letter as a view has it: what a dark program asks for holds at once, and pictures are left as their descriptions. */
function seen(html: string, view: View): string {
  const made = shown(html);
  if (view === 'Dark') return made.replace(/@media \(prefers-color-scheme:\s*dark\)/g, '@media all');
  const light = made.replace(/@media \(prefers-color-scheme:\s*dark\)/g, '@media not all');
  return view === 'Pictures off' ? light.replace(/(<img\b[^>]*?\bsrc=")[^"]*"/g, '$1data:,"') : light;
}

/** How it stands on each link: how often people followed it. */
const CLICKS = `<style>a[data-clicks]{outline:2px solid #17645c;outline-offset:2px}
a[data-clicks]::after{content:attr(data-clicks);display:inline-block;margin:0 0 0 6px;padding:0 6px;border-radius:3px;background:#17645c;color:#fffefb;font:600 12px/18px sans-serif;text-decoration:none;vertical-align:middle}
a[data-clicks="0"]{outline-color:#6a717e}a[data-clicks="0"]::after{background:#6a717e}</style>`;
/** The letter itself, and on each of its links how often people followed it. */
const marked = (template: string, clicks: ReadonlyMap<number, number>): string =>
  seen(
    pieces(template)
      .map((piece) => {
        if (piece.kind === 'text') return piece.text;
        const link = /^link:(\d+)$/.exec(piece.name);
        return link ? `#" data-clicks="${clicks.get(Number(link[1])) ?? 0}` : piece.name === 'pixel' ? 'data:,' : '#';
      })
      .join(''),
    'Email',
  ).replace('</head>', `${CLICKS}</head>`);

type Props = {
  html: string;
  text: string;
  web?: string;
  /** How often each of its links was followed, by its place; for a letter that has left. */
  clicks?: { position: number; clicks: number }[];
  children?: ReactNode;
};
/** A letter as its readers have it, in a frame that can run nothing; as a web page too where it is one. What is given stands over its text. */
export function LetterPreview({ html, text, web, clicks, children }: Props) {
  const [chosen, setView] = useState<View | null>(null);
  // What it was followed by comes once it has left.
  const view = chosen ?? (clicks ? 'Clicks' : 'Email');
  return (
    <div className="mt-3">
      <div role="tablist" aria-label="How it looks" className="mb-3 flex max-w-max flex-wrap overflow-hidden rounded-md border">
        {VIEWS.filter((name) => (web || name !== 'Web page') && (clicks || name !== 'Clicks')).map((name) => (
          <button
            key={name}
            type="button"
            role="tab"
            aria-selected={view === name}
            onClick={() => setView(name)}
            className={clsx(
              'border-r px-3 py-1.5 text-[13px] font-medium last:border-r-0',
              view === name ? 'bg-ink text-paper' : 'bg-sheet text-ink-2',
            )}
          >
            {name}
          </button>
        ))}
      </div>
      {view === 'Plain text' ? (
        <>
          {children}
          <pre className="max-h-[560px] overflow-auto rounded-lg border bg-sheet p-5 font-mono text-[13px] leading-5 whitespace-pre-wrap">
            {shown(text, '(their own link)')}
          </pre>
        </>
      ) : (
        <iframe
          title="The letter"
          sandbox=""
          srcDoc={
            view === 'Web page'
              ? web
              : view === 'Clicks'
                ? marked(html, new Map((clicks ?? []).map((one) => [one.position, one.clicks])))
                : seen(html, view)
          }
          className={clsx('h-[560px] rounded-lg border bg-white', view === 'Phone' ? 'w-[375px] max-w-full' : 'w-full')}
        />
      )}
    </div>
  );
}
