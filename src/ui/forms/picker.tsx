'use client';

import { Dialog, DialogPanel, DialogTitle } from '@headlessui/react';
import { useEffect, useRef, useState, useTransition } from 'react';
import type { ActionResult } from '@/core/faults';
import { type Picked, readPicked } from '@/core/forms/selector';
import { Button } from '../kit/button';
import { Words } from '../kit/controls';

/** What is looked for on a page, and what is done with it. */
export type Picking = { title: string; take: (selector: string) => void };
type Props = {
  /** Null while nothing is. */
  picking: Picking | null;
  close: () => void;
  /** The page to begin with. */
  site: string;
  load: (url: string) => Promise<ActionResult<{ address: string }>>;
};

/** Finds a CSS selector by clicking in a copy of one's own page, for people who know no CSS. */
export function Picker({ picking, close, site, load }: Props) {
  const [url, setUrl] = useState(site);
  const [page, setPage] = useState('');
  const [fault, setFault] = useState('');
  const [found, setFound] = useState<Picked[]>([]);
  const [chosen, setChosen] = useState(0);
  const [busy, begin] = useTransition();
  const frame = useRef<HTMLIFrameElement>(null);

  useEffect(() => {
    const hear = (event: MessageEvent) => {
      if (event.source !== frame.current?.contentWindow) return;
      const said = readPicked(event.data);
      if (!said) return;
      setFound(said.picked);
      setChosen(said.suggested);
    };
    addEventListener('message', hear);
    return () => removeEventListener('message', hear);
  }, []);
  useEffect(() => {
    const one = found[chosen];
    if (one) frame.current?.contentWindow?.postMessage({ inksetShow: one.selector }, '*');
  }, [found, chosen]);

  const fetchPage = () =>
    begin(async () => {
      setFault('');
      setFound([]);
      const result = await load(url);
      if (result.ok) setPage(result.value.address);
      else setFault(result.error.sentence);
    });

  return (
    <Dialog open={picking !== null} onClose={close} className="relative z-40">
      <div className="fixed inset-0 bg-ink/25" aria-hidden />
      <div className="fixed inset-0 flex items-start justify-center overflow-y-auto p-4 pt-[4vh]">
        <DialogPanel className="w-full max-w-5xl rounded-lg border bg-sheet p-5 shadow-float">
          <DialogTitle className="font-serif text-head">{picking?.title}</DialogTitle>
          <form
            className="mt-3 flex flex-wrap items-end gap-2"
            onSubmit={(event) => {
              event.preventDefault();
              fetchPage();
            }}
          >
            <div className="min-w-0 flex-1 basis-64">
              <Words label="A post of yours" type="url" value={url} change={setUrl} placeholder="https://" />
            </div>
            <Button type="submit" disabled={busy || !url}>
              {busy ? 'Fetching' : 'Show it'}
            </Button>
          </form>
          {fault && (
            <p role="alert" className="mt-2 text-small text-stamp">
              {fault}
            </p>
          )}
          {page && (
            <div className="mt-3 grid gap-4 md:grid-cols-[1fr_250px]">
              <iframe
                ref={frame}
                title="A copy of your page"
                sandbox="allow-scripts"
                src={page}
                className="h-[60vh] w-full rounded-md border bg-white"
              />
              <div>
                {found.length === 0 ? (
                  <p className="text-[13px] text-ink-2">Click in the text of your post. Nothing on your site changes.</p>
                ) : (
                  <fieldset>
                    <legend className="mb-1 text-small font-semibold text-ink-2">From the inside out</legend>
                    <div className="max-h-[46vh] overflow-y-auto">
                      {found.map((one, n) => (
                        <label
                          key={`${n} ${one.selector}`}
                          className="flex items-baseline gap-2 border-b border-rule-2 py-1.5 text-[13px]"
                        >
                          <input
                            type="radio"
                            name="selector"
                            className="accent-verdigris"
                            checked={n === chosen}
                            onChange={() => setChosen(n)}
                          />
                          <span className="min-w-0 flex-1 font-mono text-[12px] break-all">{one.selector}</span>
                          <span className="text-small text-ink-2">{one.count === 1 ? 'once' : `${one.count} times`}</span>
                        </label>
                      ))}
                    </div>
                    <Button
                      tone="main"
                      className="mt-3"
                      onClick={() => {
                        const one = found[chosen];
                        if (one) picking?.take(one.selector);
                        close();
                      }}
                    >
                      Take it
                    </Button>
                  </fieldset>
                )}
              </div>
            </div>
          )}
        </DialogPanel>
      </div>
    </Dialog>
  );
}
