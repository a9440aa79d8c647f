import { appendFileSync, existsSync, readFileSync, writeFileSync } from 'node:fs';
import { place } from '../shell/world';

export type Verdict = { result: string; detail: string };
export type Verdicts = { spf: Verdict; dkim: Verdict; dmarc: Verdict };
export type Stored = {
  id: string;
  to: string;
  mailFrom: string;
  from: string;
  subject: string;
  at: string;
  bytes: number;
  encrypted: boolean;
  leaveUrl: string | null;
  verdicts: Verdicts | null;
};

const index = place('mail', 'index.jsonl');
const messages = new Map<string, Stored>();
if (existsSync(index)) {
  // Later lines about the same letter (its verdicts) take the place of earlier ones.
  for (const line of readFileSync(index, 'utf8').split('\n').filter(Boolean)) {
    const stored = JSON.parse(line) as Stored;
    messages.set(stored.id, stored);
  }
}
let last = Math.max(0, ...[...messages.keys()].map(Number));

const file = (id: string) => place('mail', `${id}.eml`);

export function add(message: Omit<Stored, 'id'>, source: Buffer): Stored {
  last += 1;
  const stored = { ...message, id: String(last) };
  writeFileSync(file(stored.id), source);
  save(stored);
  return stored;
}

export function save(stored: Stored): void {
  messages.set(stored.id, stored);
  appendFileSync(index, `${JSON.stringify(stored)}\n`);
}

export const get = (id: string): Stored | undefined => messages.get(id);
export const source = (id: string): Buffer => readFileSync(file(id));
/** Letters, newest first; to one address or to all. */
export const list = (to?: string): Stored[] =>
  [...messages.values()].filter((m) => !to || m.to.toLowerCase() === to.toLowerCase()).reverse();
