import dns, { type LookupAddress } from 'node:dns';

const ADDRESS: LookupAddress = { address: '127.0.0.1', family: 4 };

/**
 * From now on names under localhost are this machine's, for all that this process looks up (RFC 6761 section 6.3). Browsers do so by
 * themselves; Node leaves it to the machine's resolver, which often does not.
 */
export function knowLocalhost(): void {
  const ours = (host: string) => /(^|\.)localhost\.?$/i.test(host);
  const { lookup, promises } = dns;
  const ask = promises.lookup;
  const patched = (host: string, options: unknown, callback?: (...args: unknown[]) => void) => {
    if (!ours(host)) return (lookup as (...args: unknown[]) => void)(host, options, callback);
    const reply = (callback ?? options) as (...args: unknown[]) => void;
    const all = typeof options === 'object' && (options as { all?: boolean }).all;
    process.nextTick(() => (all ? reply(null, [ADDRESS]) : reply(null, ADDRESS.address, ADDRESS.family)));
  };
  dns.lookup = Object.assign(patched, lookup) as typeof lookup;
  promises.lookup = (async (host: string, options?: { all?: boolean }) => {
    if (!ours(host)) return ask(host, options as { all: boolean });
    return options?.all ? [ADDRESS] : ADDRESS;
  }) as typeof ask;
}
