import ipaddr from 'ipaddr.js';

type Address = ReturnType<typeof ipaddr.process>;
export type Networks = [Address, number][];

/** Reads addresses and networks ("127.0.0.1", "10.0.0.0/8", "::1"); throws naming the one that is none. */
export function readNetworks(list: string[]): Networks {
  return list.map((text): [Address, number] => {
    try {
      if (text.includes('/')) {
        const [address, bits] = ipaddr.parseCIDR(text);
        return [address, bits];
      }
      const address = ipaddr.process(text);
      return [address, address.kind() === 'ipv4' ? 32 : 128];
    } catch {
      throw new Error(`“${text}” is no address and no network.`);
    }
  });
}

/** An address as it may stand in a header: with a port, in brackets, as IPv4 in IPv6. Null for anything else. */
function readAddress(text: string): Address | null {
  const bare = /^\[([^\]]+)\](?::\d+)?$/.exec(text)?.[1] ?? /^(\d+\.\d+\.\d+\.\d+):\d+$/.exec(text)?.[1] ?? text;
  const plain = bare.replace(/%.*$/, '');
  return ipaddr.isValid(plain) ? ipaddr.process(plain) : null;
}

const within = (address: Address, networks: Networks) =>
  networks.some(([network, bits]) => network.kind() === address.kind() && address.match(network as never, bits));

/** Does an address lie in one of these networks? Not where it is none. */
export function isWithin(text: string, networks: Networks): boolean {
  const address = readAddress(text);
  return address !== null && within(address, networks);
}

/**
 * Who really asks: whoever holds the connection, unless that is a proxy that we trust; then whom it says it speaks for (X-Forwarded-For), and so on
 * from right to left. What stands left of somebody who is not trusted is hearsay. '' where nothing is known.
 */
export function clientOf(peer: string | undefined, forwarded: string | null | undefined, trusted: Networks): string {
  let at = peer ? readAddress(peer) : null;
  const hops = (forwarded ?? '').split(',').map((hop) => hop.trim());
  while (at && within(at, trusted)) {
    const next = hops.pop();
    const read = next ? readAddress(next) : null;
    if (!read) break;
    at = read;
  }
  return at?.toString() ?? '';
}
