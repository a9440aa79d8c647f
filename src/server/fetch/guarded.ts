import { lookup } from 'node:dns';
import { isIP, type LookupFunction } from 'node:net';
import ipaddr from 'ipaddr.js';
import { Agent, fetch as undiciFetch } from 'undici';
import { Fault } from '@/core/faults';

export type Fetched = {
  status: number;
  headers: Headers;
  bytes: Buffer;
  url: string;
  /** Where it has moved to for good, where every step of the way said so (RFC 9110, 301 and 308). */
  movedTo: string | null;
};
export type FetchLimits = { timeoutMs: number; bytes: number; redirects: number };
const LIMITS: FetchLimits = { timeoutMs: 15_000, bytes: 5_000_000, redirects: 4 };

/** May we connect to this address? Only public unicast ones; loopback where the demo allows it. IPv4 in IPv6 counts as IPv4. */
export function allowedAddress(address: string, allowLoopback: boolean): boolean {
  if (!ipaddr.isValid(address)) return false;
  const range = ipaddr.process(address).range();
  return range === 'unicast' || (allowLoopback && range === 'loopback');
}

/** A look-up that hands on only allowed addresses: what was checked is what is connected to, with no second look-up between. */
const guardedLookup =
  (allowLoopback: boolean): LookupFunction =>
  (host, options, callback) => {
    // Names under localhost are this machine's, whoever is asked (RFC 6761 section 6.3); not every resolver knows.
    if (/(^|\.)localhost$/i.test(host)) {
      if (!allowLoopback) return callback(Object.assign(new Error('refused address'), { code: 'EGUARD' }), []);
      return options.all ? callback(null, [{ address: '127.0.0.1', family: 4 }]) : callback(null, '127.0.0.1', 4);
    }
    lookup(host, { ...options, all: true }, (error, found) => {
      if (error) return callback(error, []);
      const addresses = found.filter((entry) => allowedAddress(entry.address, allowLoopback));
      if (addresses.length === 0) return callback(Object.assign(new Error('refused address'), { code: 'EGUARD' }), []);
      if (options.all) callback(null, addresses);
      else callback(null, addresses[0]!.address, addresses[0]!.family);
    });
  };

/**
 * Fetches something on a user's behalf: http(s) only, allowed addresses only, bounded in time, size (after decompression) and
 * redirects. Throws a `Fault` with a sentence for the person who gave the address.
 */
export async function guardedFetch(
  url: string,
  allowLoopback: boolean,
  headers: Record<string, string> = {},
  limits = LIMITS,
  /** What is posted there; without it the address is read. */
  post?: string,
): Promise<Fetched> {
  const agent = new Agent({ connect: { lookup: guardedLookup(allowLoopback), timeout: 5_000 } });
  const signal = AbortSignal.timeout(limits.timeoutMs);
  try {
    let at = url;
    let forGood = true;
    for (let hop = 0; hop <= limits.redirects; hop += 1) {
      const target = checkedUrl(at, allowLoopback);
      const response = await undiciFetch(target, {
        dispatcher: agent,
        redirect: 'manual',
        signal,
        ...(post === undefined ? {} : { method: 'POST', body: post }),
        headers: { 'user-agent': 'Inkset feed reader', ...headers },
      });
      const location = response.headers.get('location');
      if (response.status >= 300 && response.status < 400 && response.status !== 304 && location) {
        await response.body?.cancel();
        forGood &&= response.status === 301 || response.status === 308;
        at = new URL(location, target).href;
        continue;
      }
      return {
        status: response.status,
        headers: response.headers as unknown as Headers,
        url: target.href,
        movedTo: hop > 0 && forGood ? target.href : null,
        bytes: await bounded(response.body, limits.bytes),
      };
    }
    throw new Fault(
      'unreachable',
      `${new URL(url).host} sent us from one address to the next more than ${limits.redirects} times.`,
    );
  } catch (error) {
    throw error instanceof Fault ? error : sayWhy(url, error);
  } finally {
    void agent.close();
  }
}

function checkedUrl(text: string, allowLoopback: boolean): URL {
  const url = URL.canParse(text) ? new URL(text) : null;
  if (!url || !/^https?:$/.test(url.protocol))
    throw new Fault('invalid', 'This address does not start with http:// or https://.');
  const host = url.hostname.replace(/^\[|\]$/g, '');
  // A look-up is skipped for a literal address, so it is checked here.
  if (isIP(host) && !allowedAddress(host, allowLoopback))
    throw new Fault('invalid', `${host} is not an address on the public web.`);
  url.username = '';
  url.password = '';
  return url;
}

async function bounded(body: AsyncIterable<Uint8Array> | null, most: number): Promise<Buffer> {
  if (!body) return Buffer.alloc(0);
  const chunks: Uint8Array[] = [];
  let size = 0;
  for await (const chunk of body) {
    size += chunk.length;
    if (size > most)
      throw new Fault('unreachable', `The answer was longer than ${Math.round(most / 1_000_000)} MB, so we stopped reading.`);
    chunks.push(chunk);
  }
  return Buffer.concat(chunks);
}

function sayWhy(url: string, error: unknown): Fault {
  const host = URL.canParse(url) ? new URL(url).host : url;
  const { name, code, cause: inner } = error as { name?: string; code?: string | number; cause?: { code?: string } };
  // A time-out is a DOMException, whose `code` is a number without meaning here.
  const cause = name === 'TimeoutError' ? name : (inner?.code ?? code ?? name);
  if (cause === 'EGUARD') return new Fault('invalid', `${host} is not on the public web.`);
  if (cause === 'ENOTFOUND' || cause === 'EAI_AGAIN')
    return new Fault('unreachable', `There is no site called ${host}, or its name server is away.`);
  if (cause === 'TimeoutError' || cause === 'UND_ERR_CONNECT_TIMEOUT')
    return new Fault('unreachable', `${host} did not answer in time.`);
  // The name of an error class says nothing to a person; a code of the operating system may to whoever helps them.
  const said = typeof cause === 'string' && /^E[A-Z]+$/.test(cause) ? ` (${cause})` : '';
  return new Fault(
    'unreachable',
    `${host} could not be reached${said}. Nothing was lost; try again, or look whether the address is right.`,
  );
}
