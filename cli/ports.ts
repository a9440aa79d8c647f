import { createServer } from 'node:net';

const free = (port: number): Promise<boolean> =>
  new Promise((resolve) => {
    const probe = createServer();
    probe.once('error', () => resolve(false));
    probe.listen(port, '127.0.0.1', () => probe.close(() => resolve(true)));
  });

/** The wanted port if it is free on loopback, else the next free one above it that is not in `taken`. */
export async function pickPort(wanted: number, taken: Set<number>): Promise<number> {
  for (let port = wanted; port < wanted + 500; port += 1) {
    if (!taken.has(port) && (await free(port))) {
      taken.add(port);
      return port;
    }
  }
  throw new Error(`No free port between ${wanted} and ${wanted + 500}.`);
}
