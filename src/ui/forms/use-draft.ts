'use client';

import { useCallback, useEffect, useRef, useState } from 'react';
import type { ActionResult } from '@/core/faults';
import type { FormDefinition } from '@/core/forms/definition';

export type Written = { name: string; definition: FormDefinition; listIds: string[] };
export type Saved = { kind: 'saved'; at: Date } | { kind: 'typing' } | { kind: 'fault'; sentence: string };
type Keep = (written: Written) => Promise<ActionResult<{ savedAt: Date }>>;

const MOST_STEPS = 100;
const AFTER_MS = 600;
const AWAY: ActionResult<{ savedAt: Date }> = {
  ok: false,
  error: { code: 'unreachable', sentence: 'We could not be reached; what you typed is still here.' },
};

/** What is being written of a form: it saves itself after each pause, can be undone and redone, and asks before it would be lost. */
export function useDraft(start: { written: Written; savedAt: Date; isDraft: boolean }, keep: Keep) {
  const [written, setWritten] = useState(start.written);
  const [past, setPast] = useState<Written[]>([]);
  const [future, setFuture] = useState<Written[]>([]);
  const [saved, setSaved] = useState<Saved>({ kind: 'saved', at: start.savedAt });
  const [isDraft, setIsDraft] = useState(start.isDraft);
  const dirty = useRef(false);
  /** What no save has begun for, or none has succeeded. */
  const unsaved = useRef<Written | null>(null);
  const turn = useRef(0);
  // The page gives a new function each time it is made anew; that alone is no reason to save.
  const keepNow = useRef(keep);
  keepNow.current = keep;

  const write = useCallback(
    (next: Written) => {
      dirty.current = true;
      setPast((all) => [...all.slice(-MOST_STEPS), written]);
      setFuture([]);
      setWritten(next);
    },
    [written],
  );
  const step = (from: Written[], setFrom: (all: Written[]) => void, to: (change: (all: Written[]) => Written[]) => void) => {
    const last = from.at(-1);
    if (!last) return;
    dirty.current = true;
    setFrom(from.slice(0, -1));
    to((all) => [...all, written]);
    setWritten(last);
  };

  useEffect(() => {
    if (!dirty.current) return;
    setSaved({ kind: 'typing' });
    unsaved.current = written;
    const mine = ++turn.current;
    const timer = setTimeout(async () => {
      unsaved.current = null;
      const result = await keepNow.current(written).catch(() => AWAY);
      if (mine !== turn.current) return;
      setSaved(
        result.ok ? { kind: 'saved', at: new Date(result.value.savedAt) } : { kind: 'fault', sentence: result.error.sentence },
      );
      if (result.ok) setIsDraft(true);
      else unsaved.current = written;
    }, AFTER_MS);
    return () => clearTimeout(timer);
  }, [written]);

  // A screen that was gone back to may first be shown as it was; nothing is written here yet, so what comes then is taken.
  const keptAt = new Date(start.savedAt).getTime();
  const shownAt = useRef(keptAt);
  useEffect(() => {
    if (dirty.current || keptAt <= shownAt.current) return;
    shownAt.current = keptAt;
    setWritten(start.written);
    setSaved({ kind: 'saved', at: new Date(keptAt) });
    setIsDraft(start.isDraft);
  }, [keptAt, start.written, start.isDraft]);

  // Closing the window with something unsaved asks first; so does going to another screen where it could not be saved.
  useEffect(() => {
    if (saved.kind === 'saved') return;
    const ask = (event: BeforeUnloadEvent) => event.preventDefault();
    const askHere = (event: MouseEvent) => {
      const link = (event.target as Element).closest?.('a[href]');
      if (saved.kind !== 'fault' || !link || link.getAttribute('target') || confirm('Your last change is not saved. Leave it?'))
        return;
      event.preventDefault();
      event.stopPropagation();
    };
    addEventListener('beforeunload', ask);
    addEventListener('click', askHere, true);
    return () => {
      removeEventListener('beforeunload', ask);
      removeEventListener('click', askHere, true);
    };
  }, [saved.kind]);

  // Going to another screen in the pause before a save saves at once.
  useEffect(
    () => () => {
      if (unsaved.current) void keepNow.current(unsaved.current);
    },
    [],
  );

  return {
    written,
    write,
    saved,
    isDraft,
    published: () => setIsDraft(false),
    undo: past.length ? () => step(past, setPast, setFuture) : null,
    redo: future.length ? () => step(future, setFuture, setPast) : null,
  };
}
