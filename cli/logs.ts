import { closeSync, existsSync, openSync, readdirSync, readFileSync, readSync, statSync } from 'node:fs';
import { join } from 'node:path';
import type { Home } from './home';

const LINES = 60;
const AGAIN_MS = 400;
const LEVELS: Record<number, string> = { 10: 'trace', 20: 'debug', 30: 'info', 40: 'warn', 50: 'error', 60: 'fatal' };

/** One line of a log for a person: when, which process, how bad, what, and the rest as it stands. What is no JSON stays as it is. */
export function readable(line: string, name: string): { at: number; text: string } {
  try {
    const { level, time, msg, process: _, ...rest } = JSON.parse(line) as Record<string, unknown>;
    const more = Object.entries(rest).map(
      ([key, value]) => `${key}=${typeof value === 'string' ? value : JSON.stringify(value)}`,
    );
    const clock = new Date(Number(time)).toISOString().slice(11, 23);
    return {
      at: Number(time),
      text: `${clock} ${name.padEnd(18)} ${(LEVELS[Number(level)] ?? '').padEnd(5)} ${[msg, ...more].filter(Boolean).join('  ')}`,
    };
  } catch {
    return { at: 0, text: `${' '.repeat(12)} ${name.padEnd(18)}       ${line}` };
  }
}

/** Prints the last lines of all processes' logs, or of those whose name holds a word, in the order of time; with `follow` goes on until it is ended. */
export async function logs(home: Home, word: string | undefined, follow: boolean, say: (text: string) => void): Promise<void> {
  const folder = join(home.dir, 'logs');
  const names = existsSync(folder)
    ? readdirSync(folder).filter((name) => name.endsWith('.log') && name.includes(word ?? ''))
    : [];
  if (names.length === 0) throw new Error(word ? `No process is called “${word}” here.` : 'Nothing has run here yet.');
  const of = (name: string) => name.replace(/\.log$/, '');
  const last: { at: number; text: string }[] = [];
  const read = new Map<string, number>();
  for (const name of names) {
    const text = readFileSync(join(folder, name), 'utf8');
    read.set(name, Buffer.byteLength(text));
    let at = 0;
    for (const line of text.split('\n').filter(Boolean).slice(-LINES)) {
      const one = readable(line, of(name));
      // What carries no time stands where it was written.
      at = one.at || at;
      last.push({ ...one, at });
    }
  }
  for (const { text } of last.sort((a, b) => a.at - b.at).slice(-LINES)) say(text);
  while (follow) {
    await new Promise((resolve) => setTimeout(resolve, AGAIN_MS));
    for (const name of names) {
      const { size } = statSync(join(folder, name));
      const from = Math.min(read.get(name)!, size);
      if (size === from) continue;
      const bytes = Buffer.alloc(size - from);
      const file = openSync(join(folder, name), 'r');
      readSync(file, bytes, 0, bytes.length, from);
      closeSync(file);
      const whole = bytes.lastIndexOf('\n') + 1;
      read.set(name, from + whole);
      for (const line of bytes.subarray(0, whole).toString('utf8').split('\n').filter(Boolean))
        say(readable(line, of(name)).text);
    }
  }
}
