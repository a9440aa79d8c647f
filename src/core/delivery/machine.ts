/** Names that programs give themselves when they fetch pictures and links on nobody's behalf (or on everybody's). */
const MACHINE_AGENT =
  /bot\b|crawl|spider|scan|proxy|preview|prefetch|fetcher|monitor|headless|curl|wget|python|java\/|go-http|node|okhttp/i;
/** Nobody opens and clicks this soon after the mailbox took the letter. */
const SOONEST_SECONDS = 2;

/**
 * Was an open or a click made by a machine (privacy proxy, link scanner)? Judged by the agent's name, by the method, and by time:
 * `secondsSinceDelivery` is null when unknown. The headline numbers count people only.
 */
export function isMachine(agent: string, secondsSinceDelivery: number | null, method = 'GET'): boolean {
  if (method !== 'GET' || agent.trim() === '' || MACHINE_AGENT.test(agent)) return true;
  return secondsSinceDelivery !== null && secondsSinceDelivery < SOONEST_SECONDS;
}
