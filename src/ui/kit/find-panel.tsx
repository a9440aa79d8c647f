'use client';

import { Dialog, DialogPanel, DialogTitle } from '@headlessui/react';
import { Command } from 'cmdk';
import { useRouter } from 'next/navigation';
import { useEffect, useState } from 'react';
import { KEYS } from '../writing/keys';
import { SECTIONS } from './sections';

type Hit = { kind: string; label: string; detail: string; href: string };
type Props = { base: string; open: 'find' | 'keys' | null; setOpen: (open: 'find' | null) => void };

/** Where anything is found by its name, and the list of keys. */
export function FindPanel({ base, open, setOpen }: Props) {
  const [query, setQuery] = useState('');
  const [hits, setHits] = useState<Hit[]>([]);
  const router = useRouter();
  useEffect(() => {
    const words = query.trim();
    if (words.length < 2) {
      setHits([]);
      return;
    }
    const stop = new AbortController();
    const timer = setTimeout(() => {
      fetch(`${base}/find?q=${encodeURIComponent(words)}`, { signal: stop.signal })
        .then((response) => response.json())
        .then(setHits)
        .catch(() => {});
    }, 120);
    return () => {
      clearTimeout(timer);
      stop.abort();
    };
  }, [query, base]);

  const go = (href: string) => {
    setOpen(null);
    setQuery('');
    router.push(href);
  };
  const ITEM =
    'flex cursor-pointer items-baseline justify-between gap-4 rounded-sm px-2.5 py-2 data-[selected=true]:bg-verdigris-tint';

  return (
    <>
      <Dialog open={open === 'find'} onClose={() => setOpen(null)} className="relative z-40">
        <div className="fixed inset-0 bg-ink/20" aria-hidden />
        <div className="fixed inset-0 flex items-start justify-center p-4 pt-[12vh]">
          <DialogPanel className="w-full max-w-lg rounded-lg border bg-sheet p-2 shadow-float">
            <DialogTitle className="sr-only">Find anything</DialogTitle>
            <Command label="Find anything" shouldFilter={false} loop>
              <Command.Input
                autoFocus
                value={query}
                onValueChange={setQuery}
                placeholder="A reader, a letter, a form, a place"
                className="w-full border-b bg-transparent px-2.5 py-2.5 text-[15px] outline-none"
              />
              <Command.List className="max-h-[50vh] overflow-y-auto pt-1.5">
                <Command.Empty className="px-2.5 py-4 text-ink-2">Nothing of that name.</Command.Empty>
                {hits.map((hit) => (
                  <Command.Item key={hit.href} value={hit.href} onSelect={() => go(hit.href)} className={ITEM}>
                    <span className="min-w-0 truncate">{hit.label}</span>
                    <span className="shrink-0 text-small text-ink-2">
                      {hit.kind}
                      {hit.detail && `, ${hit.detail}`}
                    </span>
                  </Command.Item>
                ))}
                {[
                  ...SECTIONS.map((s) => ({ label: s.label, href: `${base}/${s.path}` })),
                  { label: 'Settings', href: `${base}/settings` },
                ]
                  .filter((place) => place.label.toLowerCase().includes(query.trim().toLowerCase()))
                  .map((place) => (
                    <Command.Item key={place.href} value={place.href} onSelect={() => go(place.href)} className={ITEM}>
                      <span>{place.label}</span>
                      <span className="text-small text-ink-2">go there</span>
                    </Command.Item>
                  ))}
              </Command.List>
            </Command>
          </DialogPanel>
        </div>
      </Dialog>
      <Dialog open={open === 'keys'} onClose={() => setOpen(null)} className="relative z-40">
        <div className="fixed inset-0 bg-ink/20" aria-hidden />
        <div className="fixed inset-0 flex items-start justify-center p-4 pt-[12vh]">
          <DialogPanel className="max-h-[76vh] w-full max-w-lg overflow-y-auto rounded-lg border bg-sheet p-5 shadow-float">
            <DialogTitle className="font-serif text-head">Keys</DialogTitle>
            <dl className="mt-3 grid grid-cols-[auto_1fr] gap-x-6 gap-y-1.5">
              {[
                ['Ctrl K', 'Find anything'],
                ...SECTIONS.map((s) => [`g ${s.key}`, `Go to ${s.label}`]),
                ['Esc', 'Close what is open'],
                ['?', 'This list'],
                ...KEYS.map(([what, keys]) => [keys, `Writing: ${what.toLowerCase()}`] as const),
              ].map(([keys, does]) => (
                <div key={keys} className="contents">
                  <dt className="font-mono text-[13px]">{keys}</dt>
                  <dd className="text-ink-2">{does}</dd>
                </div>
              ))}
            </dl>
          </DialogPanel>
        </div>
      </Dialog>
    </>
  );
}
