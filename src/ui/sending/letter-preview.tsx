'use client';

import clsx from 'clsx';
import { useState } from 'react';
import { pieces } from '@/core/writing/slots';

const VIEWS = ['Email', 'Phone', 'Plain text'] as const;

/** Slots shown as what they are: links lead nowhere in a preview, the counting picture is left out. */
const shown = (template: string, link = '#') =>
  pieces(template)
    .map((piece) => (piece.kind === 'text' ? piece.text : piece.name === 'pixel' ? 'data:,' : link))
    .join('');

/** A letter as its readers have it, in a frame that can run nothing. */
export function LetterPreview({ html, text }: { html: string; text: string }) {
  const [view, setView] = useState<(typeof VIEWS)[number]>('Email');
  return (
    <div className="mt-3">
      <div role="tablist" aria-label="How it looks" className="mb-3 inline-flex overflow-hidden rounded-md border">
        {VIEWS.map((name) => (
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
        <pre className="max-h-[560px] overflow-auto rounded-lg border bg-sheet p-5 font-mono text-[13px] leading-5 whitespace-pre-wrap">
          {shown(text, '(their own link)')}
        </pre>
      ) : (
        <iframe
          title="The letter"
          sandbox=""
          srcDoc={shown(html)}
          className={clsx('h-[560px] rounded-lg border bg-white', view === 'Phone' ? 'w-[375px] max-w-full' : 'w-full')}
        />
      )}
    </div>
  );
}
