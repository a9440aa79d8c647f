import { createStore, del, entries, set } from 'idb-keyval';
import { useCallback, useEffect, useRef, useState } from 'react';
import type { Document, Node } from '@/core/writing/document';
import { changeBetween } from '@/core/writing/editing';

/** Everything that is written of a letter. */
export type Written = {
  title: string;
  subtitle: string;
  subject: string | null;
  previewLine: string | null;
  senderId: string | null;
  layoutId: string | null;
  document: Document;
};

/** How what is written stands; said beside the stages at all times. */
export type Saving =
  | { kind: 'saved'; at: string }
  | { kind: 'unsaved' }
  | { kind: 'saving' }
  /** The server cannot be reached: everything is kept in this browser and goes there by itself. */
  | { kind: 'offline' }
  /** Somebody else writes, or the letter has begun to leave: nothing of this window goes there. */
  | { kind: 'elsewhere'; sentence: string }
  /** The server refuses what is written. */
  | { kind: 'refused'; sentence: string };

/** What was written and not saved yet, as this browser keeps it; each window of a letter keeps its own. */
export type Kept = { letter: string; window: string; revision: number; written: Written; at: string };

const PAUSE_MS = 900;
const AT_LEAST_MS = 5_000;
const BEAT_MS = 8_000;
/** So often, and so far apart, a window asks again that finds the letter held as it opens. */
const PATIENT = 4;
const SOON_MS = 600;
const AGAIN_MS = 3_000;
const SILENT_MS = 20_000;

type Fields = Omit<Written, 'document'>;
const fieldsOf = ({ document: _, ...fields }: Written): Fields => fields;
/** Those that the server does not have yet. */
const changedFields = (before: Fields, now: Fields): Partial<Fields> =>
  Object.fromEntries(Object.entries(now).filter(([name, value]) => before[name as keyof Fields] !== value));

const store = () => createStore('inkset-writing', 'letters');
const nameOf = (kept: Pick<Kept, 'letter' | 'window'>) => `${kept.letter} ${kept.window}`;
/** All that this browser keeps of a letter, the latest first. */
export async function keptOf(letter: string): Promise<Kept[]> {
  const all = await entries<string, Kept>(store()).catch(() => []);
  return all
    .map(([, kept]) => kept)
    .filter((kept) => kept.letter === letter)
    .sort((a, b) => (a.at < b.at ? 1 : -1));
}
/** Forgets what one window kept. */
export const dropKept = (kept: Pick<Kept, 'letter' | 'window'>): Promise<void> =>
  del(nameOf(kept), store()).catch(() => undefined);

const takenAs = (letter: string) => `inkset-takes-${letter}`;
/** What this window writes under: a key of its own, or that with which it has just taken the letter over. */
function ownKey(letter: string): string {
  if (typeof window === 'undefined') return '';
  const taken = sessionStorage.getItem(takenAs(letter));
  sessionStorage.removeItem(takenAs(letter));
  return taken ?? crypto.randomUUID();
}

type Options = {
  letter: string;
  saveTo: string;
  holdAt: string;
  revision: number;
  at: string;
  /** The blocks that the server has. */
  there: Node[];
  written: Written;
  /** Has what stands in the editor at this moment written: it is read on a pause only. */
  read: () => void;
};
type Answer = { revision?: number; savedAt?: string; mine?: boolean; by?: string | null; sentence?: string };

async function send(
  to: string,
  method: string,
  body: unknown,
  keepalive = false,
): Promise<{ status: number; signedOut: boolean; answer: Answer }> {
  const response = await fetch(to, {
    method,
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify(body),
    keepalive,
    // Who says nothing is not waited for.
    signal: AbortSignal.timeout(SILENT_MS),
  });
  return { status: response.status, signedOut: response.redirected, answer: await response.json().catch(() => ({})) };
}

/**
 * Saves what is written on every pause, a change at a time, and keeps it in this browser until the server has it. One window writes at a time: it says so
 * every few seconds, and learns when another has taken over.
 */
export function useSaving({ letter, saveTo, holdAt, revision, at, there: blocks, written, read }: Options) {
  const [state, setState] = useState<Saving>({ kind: 'saved', at });
  const [mine, setMine] = useState(false);
  const key = useRef('');
  if (key.current === '') key.current = ownKey(letter);
  const there = useRef({ revision, nodes: blocks, fields: fieldsOf(written) });
  const now = useRef(written);
  const dirty = useRef(false);
  const busy = useRef(false);
  const barred = useRef(false);
  /** Is it known that this window writes? Until then nothing is saved. */
  const ready = useRef(false);
  const since = useRef(0);
  const saved = useRef(at);
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  const reading = useRef(read);
  reading.current = read;

  /** Keeps in this browser what the server does not have. */
  const keep = useCallback(() => {
    const kept: Kept = {
      letter,
      window: key.current,
      revision: there.current.revision,
      written: now.current,
      at: new Date().toISOString(),
    };
    void set(nameOf(kept), kept, store()).catch(() => undefined);
  }, [letter]);

  const save = useCallback(
    async (leaving = false): Promise<void> => {
      if (!dirty.current || busy.current || barred.current || !ready.current) return;
      busy.current = true;
      dirty.current = false;
      since.current = 0;
      const sent = now.current;
      const { document } = sent;
      const fields = fieldsOf(sent);
      const change = changeBetween(there.current.nodes, document.nodes);
      if (!leaving) setState({ kind: 'saving' });
      const later = () => {
        clearTimeout(timer.current);
        timer.current = setTimeout(() => void save(), AGAIN_MS);
      };
      try {
        const { status, signedOut, answer } = await send(
          saveTo,
          'PUT',
          {
            key: key.current,
            leave: leaving,
            revision: there.current.revision,
            change,
            ...changedFields(there.current.fields, fields),
          },
          leaving,
        );
        if (answer.revision && answer.savedAt) {
          there.current = { revision: answer.revision, nodes: document.nodes, fields };
          saved.current = answer.savedAt;
          if (now.current === sent) {
            setState({ kind: 'saved', at: answer.savedAt });
            await dropKept({ letter, window: key.current });
          } else keep();
        } else if (status === 409 || status === 404 || status === 401 || status === 403) {
          dirty.current = true;
          barred.current = true;
          setState({
            kind: 'elsewhere',
            sentence: answer.sentence ?? 'This letter cannot be written here now. What you wrote is kept here.',
          });
        } else if (signedOut) {
          dirty.current = true;
          setState({
            kind: 'refused',
            sentence: 'You are signed out. Sign in again in another tab; what you write is kept here and saved then.',
          });
          later();
        } else if (status === 422) {
          dirty.current = true;
          setState({ kind: 'refused', sentence: answer.sentence ?? 'This cannot be saved as it is. It is kept here.' });
        } else throw new Error(String(status));
      } catch {
        // The network, or our server for now: kept here, and tried again by itself.
        dirty.current = true;
        setState({ kind: 'offline' });
        later();
      } finally {
        busy.current = false;
        if (dirty.current && !barred.current && now.current !== sent) {
          clearTimeout(timer.current);
          timer.current = setTimeout(() => void save(), PAUSE_MS);
        }
      }
    },
    [letter, saveTo, keep],
  );

  /** Something was written. */
  const write = useCallback(
    (next: Written) => {
      now.current = next;
      dirty.current = true;
      const moment = Date.now();
      since.current ||= moment;
      keep();
      if (barred.current) return;
      setState((old) => (old.kind === 'offline' ? old : { kind: 'unsaved' }));
      clearTimeout(timer.current);
      timer.current = setTimeout(() => void save(), moment - since.current > AT_LEAST_MS ? 0 : PAUSE_MS);
    },
    [keep, save],
  );

  useEffect(() => {
    let refused = 0;
    let over = false;
    let soon: ReturnType<typeof setTimeout> | undefined;
    const beat = async () => {
      if (over) return;
      try {
        const { answer } = await send(holdAt, 'POST', { key: key.current });
        if (answer.mine === false) {
          // The window that was here a moment ago, before a reload, may not have let go yet.
          refused += 1;
          if (!ready.current && refused <= PATIENT) {
            soon = setTimeout(() => void beat(), SOON_MS);
            return;
          }
          barred.current = true;
          setState({ kind: 'elsewhere', sentence: `${answer.by ?? 'Somebody'} is writing this letter in another window.` });
        } else if (answer.mine && answer.revision === there.current.revision) {
          // Free again, and as this window knows it.
          refused = 0;
          ready.current = true;
          setMine(true);
          if (barred.current) {
            barred.current = false;
            setState({ kind: 'saved', at: saved.current });
          }
          if (dirty.current) void save();
        } else if (answer.mine && !ready.current) {
          // A window that closed has saved since this page was made: it is made anew with that.
          over = true;
          sessionStorage.setItem(takenAs(letter), key.current);
          window.location.reload();
        } else if (answer.mine && barred.current) {
          // Free, but it stands otherwise by now: this window holds nothing back from others.
          over = true;
          await send(holdAt, 'POST', { key: key.current, leave: true });
        }
      } catch {
        setState((old) => (old.kind === 'saved' ? old : { kind: 'offline' }));
      }
    };
    void beat();
    const beats = setInterval(() => void beat(), BEAT_MS);
    const back = () => void save();
    const hidden = () => {
      if (document.visibilityState !== 'hidden') return;
      reading.current();
      void save();
    };
    const leaving = () => {
      if (over) return;
      reading.current();
      if (barred.current) return;
      if (dirty.current) void save(true);
      else void send(holdAt, 'POST', { key: key.current, leave: true }, true).catch(() => undefined);
    };
    window.addEventListener('online', back);
    window.addEventListener('pagehide', leaving);
    document.addEventListener('visibilitychange', hidden);
    return () => {
      clearInterval(beats);
      clearTimeout(soon);
      clearTimeout(timer.current);
      window.removeEventListener('online', back);
      window.removeEventListener('pagehide', leaving);
      document.removeEventListener('visibilitychange', hidden);
      leaving();
    };
  }, [holdAt, save]);

  /** Writes here from now on: the other window is told. The page is made anew with what the server has. */
  const takeOver = useCallback(async () => {
    const next = crypto.randomUUID();
    await send(holdAt, 'POST', { key: next, take: true }).catch(() => undefined);
    sessionStorage.setItem(takenAs(letter), next);
    window.location.reload();
  }, [holdAt, letter]);

  /** Saves at once; resolves when the server has it, or cannot be reached. */
  const flush = useCallback(async () => {
    reading.current();
    clearTimeout(timer.current);
    while (busy.current) await new Promise((resolve) => setTimeout(resolve, 50));
    await save();
  }, [save]);

  return { state, mine, write, flush, takeOver };
}
