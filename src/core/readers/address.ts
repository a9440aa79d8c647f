import { domainToASCII } from 'node:url';

/** An email address taken apart. `key` is what makes two addresses the same person for us. */
export type Address = { local: string; domain: string; full: string; key: string };

const LOCAL = /^[^\s@"(),:;<>[\]\\\u0000-\u001f\u007f]+$/u;
const LABEL = /^[a-z0-9_](?:[a-z0-9_-]{0,61}[a-z0-9_])?$/;

/**
 * Reads one addr-spec (RFC 5321 4.1.2 without quoted local parts and address literals, RFC 6531 for UTF-8).
 * The domain is turned into its lower-case ASCII form; the local part keeps its case in `full` and loses it in `key`,
 * since no provider in practice tells readers apart by case. Returns null for anything that is not one address.
 */
export function parseAddress(input: string): Address | null {
  const text = input.trim().normalize('NFC');
  if (text.length > 254) return null;
  const at = text.lastIndexOf('@');
  if (at < 1 || at === text.length - 1) return null;
  const local = text.slice(0, at);
  if (Buffer.byteLength(local) > 64 || !LOCAL.test(local)) return null;
  if (local.startsWith('.') || local.endsWith('.') || local.includes('..')) return null;
  const domain = parseDomain(text.slice(at + 1));
  if (!domain?.includes('.')) return null;
  return { local, domain, full: `${local}@${domain}`, key: `${local.toLowerCase()}@${domain}` };
}

/** What was found of domains lately: many addresses share few of them. */
const lately = new Map<string, string | null>();
const MOST_LATELY = 10_000;

/** A domain name in lower-case ASCII without its trailing dot (RFC 1035 2.3.1, IDNA), or null. */
export function parseDomain(input: string): string | null {
  let found = lately.get(input);
  if (found !== undefined) return found;
  found = readDomain(input);
  if (lately.size >= MOST_LATELY) lately.clear();
  // Nobody's long rubbish is kept.
  if (input.length <= 255) lately.set(input, found);
  return found;
}

function readDomain(input: string): string | null {
  const ascii = domainToASCII(input.trim().replace(/\.$/, '')).toLowerCase();
  if (!ascii || ascii.length > 253) return null;
  const labels = ascii.split('.');
  if (!labels.every((label) => LABEL.test(label))) return null;
  return /^\d+$/.test(labels.at(-1) ?? '') ? null : ascii;
}
