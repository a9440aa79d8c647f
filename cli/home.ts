import { randomBytes } from 'node:crypto';
import { chmodSync, existsSync, mkdirSync, readdirSync, readFileSync, renameSync, statSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';

/** The project's root, wherever the command was called from. */
export const ROOT = dirname(dirname(fileURLToPath(import.meta.url)));

/** One installation on this machine: its folder, its secrets, and what runs. Several may stand side by side (`INKSET_HOME`). */
export type Home = { dir: string; secrets: { database: string; admin: string; app: string } };

/**
 * Opens the state folder, making it and its secrets on first use. Everything in it, and everything that this process and those it starts write from
 * now on, is for its owner's eyes only: passwords, logs with addresses, pictures and gifts.
 */
export function openHome(dir = process.env.INKSET_HOME ?? join(ROOT, '.inkset')): Home {
  process.umask(0o077);
  mkdirSync(join(dir, 'logs'), { recursive: true });
  chmodSync(dir, 0o700);
  for (const name of readdirSync(dir)) if (statSync(join(dir, name)).isFile()) chmodSync(join(dir, name), 0o600);
  const file = join(dir, 'secrets.json');
  if (!existsSync(file)) {
    const secrets = {
      database: randomBytes(24).toString('hex'),
      admin: randomBytes(24).toString('hex'),
      app: randomBytes(32).toString('hex'),
    };
    writeFileSync(file, JSON.stringify(secrets), { mode: 0o600 });
  }
  return { dir, secrets: JSON.parse(readFileSync(file, 'utf8')) };
}

/** Reads a JSON file of the home, or gives the fallback where there is none yet. */
export function readState<T>(home: Home, name: string, fallback: T): T {
  const file = join(home.dir, name);
  return existsSync(file) ? JSON.parse(readFileSync(file, 'utf8')) : fallback;
}

/** Writes a JSON file of the home in one step, so that a kill leaves the old or the new one. */
export function writeState(home: Home, name: string, value: unknown): void {
  const file = join(home.dir, name);
  writeFileSync(`${file}.new`, JSON.stringify(value, null, 2));
  renameSync(`${file}.new`, file);
}
