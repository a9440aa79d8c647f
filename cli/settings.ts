import { chmodSync, existsSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { createInterface } from 'node:readline/promises';
import type { Home } from './home';

type Wanted = { name: string; asks: string; example: string; fits: RegExp };
/** What nobody can guess of a real installation. */
const WANTED: Wanted[] = [
  {
    name: 'INKSET_WEB_ORIGIN',
    asks: 'Where will you and other writers open the desk?',
    example: 'https://letters.example',
    fits: /^https?:\/\/[^/\s]+$/,
  },
  {
    name: 'INKSET_LINK_ORIGIN',
    asks: 'Where will links in letters and forms point (a host of its own)?',
    example: 'https://go.letters.example',
    fits: /^https?:\/\/[^/\s]+$/,
  },
  {
    name: 'INKSET_MAIL_DOMAIN',
    asks: 'Which domain is the installation’s own, for its mails and what comes back?',
    example: 'letters.example',
    fits: /^[a-z0-9-]+(\.[a-z0-9-]+)+$/i,
  },
  {
    name: 'INKSET_SENDING_ADDRESSES',
    asks: 'From which public address does this machine send (several: by commas)?',
    example: '198.51.100.5',
    fits: /^[0-9a-f.:/]+(,[0-9a-f.:/]+)*$/i,
  },
];

export const settingsFile = (home: Home) => join(home.dir, 'inkset.env');

/** What is set for a real installation: the file in its state folder (NAME=VALUE lines, `#` begins a note), and over it the environment. */
export function settings(home: Home): Record<string, string> {
  const file = settingsFile(home);
  const lines = existsSync(file) ? readFileSync(file, 'utf8').split('\n') : [];
  const set: Record<string, string> = {};
  for (const line of lines) {
    const found = /^\s*(INKSET_[A-Z_]+)\s*=\s*(.*?)\s*$/.exec(line);
    if (found) set[found[1]!] = found[2]!.replace(/^(["'])(.*)\1$/, '$2');
  }
  for (const [name, value] of Object.entries(process.env))
    if (name.startsWith('INKSET_') && name !== 'INKSET_HOME' && value) set[name] = value;
  return set;
}

/**
 * The settings of a real installation, whole. What is missing is asked for where somebody sits at a terminal, and kept; else this throws a sentence for
 * each, so that nothing starts half configured.
 */
export async function wholeSettings(home: Home, say: (text: string) => void): Promise<Record<string, string>> {
  const set = settings(home);
  const missing = WANTED.filter(({ name, fits }) => !fits.test(set[name] ?? ''));
  if (missing.length === 0) return set;
  const file = settingsFile(home);
  if (!process.stdin.isTTY)
    throw new Error(
      [
        'Inkset is not configured yet. Put these into',
        `  ${file}`,
        'or run ./inkset start at a terminal and be asked. For a look at it with demo data: ./inkset demo',
        '',
        ...missing.map(({ name, asks, example }) => `  # ${asks}\n  ${name}=${example}`),
        '',
        'What else can be set, and what a real server needs, is in docs/running.md.',
      ].join('\n'),
    );
  say('Inkset is not configured yet. Four answers are needed; they can be changed later in');
  say(`  ${file}\n`);
  const terminal = createInterface({ input: process.stdin, output: process.stdout });
  try {
    for (const { name, asks, example, fits } of missing) {
      let answer = '';
      while (!fits.test(answer)) answer = (await terminal.question(`${asks}\n  (like ${example}) `)).trim();
      set[name] = answer;
    }
  } finally {
    terminal.close();
  }
  const before = existsSync(file) ? readFileSync(file, 'utf8').replace(/\n?$/, '\n') : '';
  writeFileSync(file, before + missing.map(({ name }) => `${name}=${set[name]}\n`).join(''));
  chmodSync(file, 0o600);
  return set;
}
