'use client';

import { useRouter } from 'next/navigation';
import { type ReactNode, useEffect, useRef, useState } from 'react';
import { onDemand } from './on-demand';
import { SECTIONS } from './sections';

/** What opens is fetched when it is opened for the first time: most pages are left without it. */
const FindPanel = onDemand(() => import('./find-panel').then((made) => made.FindPanel));

const typing = (target: EventTarget | null) =>
  target instanceof HTMLElement && (target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName));

/** Ctrl K finds anything; `g` and a letter goes to a section; `?` lists the keys. */
export function Find({ slug, trigger }: { slug: string; trigger: ReactNode }) {
  const [open, setOpen] = useState<'find' | 'keys' | null>(null);
  const [asked, setAsked] = useState(false);
  const router = useRouter();
  const going = useRef(0);
  const base = `/desk/${slug}`;

  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'k') {
        event.preventDefault();
        setOpen('find');
      } else if (!typing(event.target) && !event.ctrlKey && !event.metaKey && !event.altKey) {
        const section = SECTIONS.find((s) => s.key === event.key);
        if (event.key === '?') setOpen('keys');
        else if (event.key === 'g') going.current = Date.now();
        else if (section && Date.now() - going.current < 1_500) router.push(`${base}/${section.path}`);
      }
    };
    window.addEventListener('keydown', onKey);
    return () => window.removeEventListener('keydown', onKey);
  }, [router, base]);

  useEffect(() => {
    if (open) setAsked(true);
  }, [open]);
  return (
    <>
      <button
        type="button"
        onClick={() => setOpen('find')}
        className="flex items-center gap-2 rounded-sm p-1.5 text-[14px] font-medium text-ink-2 hover:text-ink"
      >
        {trigger}
      </button>
      {asked && <FindPanel base={base} open={open} setOpen={setOpen} />}
    </>
  );
}
