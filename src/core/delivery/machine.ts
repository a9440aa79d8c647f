import { isWithin, readNetworks } from '../network';
import { MACHINES } from './machines';

const AGENT = new RegExp(MACHINES.agents.join('|'), 'i');
const NETWORKS = readNetworks([...MACHINES.networks]);
/** Nobody opens and clicks this soon after the mailbox took the letter. */
const SOONEST_SECONDS = 2;

/** Why an open or a click is taken for a machine's. */
export const MACHINE_REASONS = {
  method: 'asked for no more than the head',
  'no name': 'gave itself no name',
  agent: 'gives itself a program’s name',
  network: 'came from a network of mailboxes’ programs',
  'at once': 'within two seconds of delivery, or before it was done',
  'all links': 'followed nearly all links within seconds',
} as const;
export type MachineReason = keyof typeof MACHINE_REASONS;

/** How an open or a click came. `secondsSinceDelivery` is null where that is not known, `network` empty. */
export type Fetched = { agent: string; network: string; method: string; secondsSinceDelivery: number | null };

/**
 * Was an open or a click made by a machine (privacy proxy, link scanner), and why? Judged by the method, the agent's name, the network and the time; null for what
 * may be a person's. The headline numbers count people only.
 */
export function machineReason({ agent, network, method, secondsSinceDelivery }: Fetched): MachineReason | null {
  if (method !== 'GET') return 'method';
  if (agent.trim() === '') return 'no name';
  if (AGENT.test(agent)) return 'agent';
  if (network && isWithin(network, NETWORKS)) return 'network';
  return secondsSinceDelivery !== null && secondsSinceDelivery < SOONEST_SECONDS ? 'at once' : null;
}

/** A scanner follows a letter's links one after another: nearly all of them within ten seconds, or both of two at once. */
export const BURST_MS = 10_000;
const AT_ONCE_MS = 1_500;
const SHARE = 0.8;

/** Were so many of a letter's links followed in so short a time that nobody read in between? `links` is how many the letter has. */
export function isBurst(clicks: readonly { at: number; link: number }[], links: number): boolean {
  const sorted = [...clicks].sort((a, b) => a.at - b.at);
  const most = Math.max(3, Math.ceil(SHARE * links));
  for (const [n, first] of sorted.entries()) {
    const within = (ms: number) =>
      new Set(
        sorted
          .slice(n)
          .filter(({ at }) => at - first.at <= ms)
          .map(({ link }) => link),
      ).size;
    if (within(BURST_MS) >= most) return true;
    if (links === 2 && within(AT_ONCE_MS) === 2) return true;
  }
  return false;
}
