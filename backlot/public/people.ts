/*
 * A public: readers with habits, the programs that read for them and before them, and mailboxes that are dead, full or choosy. Everything follows from a seed, so that a
 * run repeats, and what people really did is known: the truth that screens are held against.
 */

import { chance, seedOf } from './chance';

export const PROVIDERS = ['heronmail.example', 'postbird.example', 'kestrel.example', 'fjordbox.example'] as const;
const BROWSERS = [
  'Mozilla/5.0 (X11; Linux x86_64) A browser',
  'Mozilla/5.0 (Phone; Mobile) A browser',
  'A mail program/4.2 (desktop)',
];
const PROXY = { agent: 'Mozilla/5.0 A mailbox', network: '198.51.100.200' };

/** How a mailbox takes mail, and why a letter does not arrive where it does not. */
export type Box = 'well' | 'dead at once' | 'dead later' | 'full' | 'takes it for junk' | 'asks a list';
export const BOX_REASONS: Record<Exclude<Box, 'well'>, string> = {
  'dead at once': 'dead',
  'dead later': 'dead',
  full: 'full',
  'takes it for junk': 'content',
  'asks a list': 'reputation',
};
export const BOX_ANSWERS: Partial<Record<Box, [code: number, text: string]>> = {
  'dead at once': [550, '5.1.1 No such mailbox'],
  full: [452, '4.2.2 The mailbox is full'],
  'takes it for junk': [554, '5.7.1 Message rejected as spam by content scanner'],
  'asks a list': [554, '5.7.1 Service unavailable; client host blocked using bl.lists.example'],
};

export type Person = {
  address: string;
  provider: (typeof PROVIDERS)[number];
  /** Which share of letters they read, and of those follow a link in. */
  reads: number;
  clicks: number;
  /** Their mailbox has pictures fetched as soon as a letter is there, and hides when they look. */
  proxied: boolean;
  /** A program at their firm follows every link before they see the letter. */
  scanned: boolean;
  box: Box;
  /** How often they report a letter instead of leaving it be. */
  complains: number;
};
export type Act = { kind: 'open' | 'click'; afterSeconds: number; link: number | null; agent: string; network: string };
/** What came of one letter for one person: what could be seen of it, and what was so. */
export type Came = { acts: Act[]; read: boolean; clicked: boolean; inJunk: boolean; complains: boolean };

export function people(seed: number, count: number): Person[] {
  const random = chance(seed);
  return Array.from({ length: count }, (_, n) => {
    const provider = PROVIDERS[n % PROVIDERS.length]!;
    return made(`${['ida', 'bo', 'mara', 'nils', 'tove'][n % 5]}.${n}@${provider}`, provider, random);
  });
}

/** Whoever is at an address: the same person each time, with a mailbox that takes mail as its address says. Null at no provider of this world. */
export function personAt(address: string): Person | null {
  const provider = PROVIDERS.find((one) => address.toLowerCase().endsWith(`@${one}`));
  return provider ? { ...made(address, provider, chance(seedOf(address.toLowerCase()))), box: 'well' } : null;
}

function made(address: string, provider: Person['provider'], random: () => number): Person {
  const luck = random();
  return {
    address,
    provider,
    reads: Math.min(0.95, 0.15 + 0.7 * random() ** 1.3),
    clicks: 0.1 + 0.25 * random(),
    proxied: provider === 'heronmail.example' && random() < 0.5,
    scanned: provider === 'kestrel.example' && random() < 0.12,
    box:
      luck < 0.01
        ? 'dead at once'
        : luck < 0.025
          ? 'dead later'
          : luck < 0.032
            ? 'full'
            : luck < 0.038
              ? 'takes it for junk'
              : luck < 0.044
                ? 'asks a list'
                : 'well',
    complains: random() < 0.03 ? 0.08 : 0,
  };
}

/** What a person does with a letter of so many links. `inJunk` is which share of its letters their provider puts into junk; who finds one there does not read it. */
export function comesOf(person: Person, letter: string, { links, inJunk }: { links: number; inJunk: number }): Came {
  const random = chance(seedOf(`${person.address} ${letter}`));
  const between = (low: number, high: number) => low + (high - low) * random();
  const agent = BROWSERS[Math.floor(random() * BROWSERS.length)]!;
  const own = { agent, network: '192.0.2.50' };
  const junk = random() < inJunk;
  const acts: Act[] = [];
  if (person.proxied) acts.push({ kind: 'open', afterSeconds: between(3, 45), link: null, ...PROXY });
  if (person.scanned)
    for (let link = 0, at = between(8, 30); link < links; link += 1, at += between(0.2, 1.4))
      acts.push({ kind: 'click', afterSeconds: at, link, ...own });
  const read = !junk && random() < person.reads;
  const at = between(300, 30_000);
  // What a proxy has fetched it does not fetch again.
  if (read && !person.proxied) acts.push({ kind: 'open', afterSeconds: at, link: null, ...own });
  const clicked = read && random() < person.clicks;
  if (clicked) {
    const first = Math.floor(random() * links);
    acts.push({ kind: 'click', afterSeconds: at + between(20, 200), link: first, ...own });
    if (random() < 0.3) acts.push({ kind: 'click', afterSeconds: at + between(220, 900), link: (first + 1) % links, ...own });
  }
  return { acts, read, clicked, inJunk: junk, complains: !junk && random() < person.complains };
}
