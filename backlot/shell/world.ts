import { existsSync, mkdirSync, readFileSync, renameSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';

/** What a Backlot process is told about its world, from the environment. */
export function setting(name: string): string {
  const value = process.env[name];
  if (!value) throw new Error(`The Backlot needs ${name}.`);
  return value;
}
export const portOf = (name: string): number => Number(setting(name));

/** A file of the Backlot's own folder. */
export const place = (...parts: string[]): string => {
  const path = join(setting('BACKLOT_DIR'), ...parts);
  mkdirSync(dirname(path), { recursive: true });
  return path;
};

export function readJson<T>(path: string, fallback: T): T {
  return existsSync(path) ? (JSON.parse(readFileSync(path, 'utf8')) as T) : fallback;
}
/** Writes in one step: a kill leaves the old or the new file. */
export function writeFileWhole(path: string, text: string): void {
  writeFileSync(`${path}.new`, text);
  renameSync(`${path}.new`, path);
}

/** The world's time, from the clock process. */
export async function worldNow(): Promise<Date> {
  const response = await fetch(`http://127.0.0.1:${portOf('BACKLOT_CLOCK_PORT')}/now`);
  const { offsetMs } = (await response.json()) as { offsetMs: number };
  return new Date(Date.now() + offsetMs);
}
