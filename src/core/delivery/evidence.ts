/** What speaks against a mailbox without proving anything: full for days, refused in unclear words. */
export type Evidence = { score: number; at: Date | null };

/** From here on a reader counts as bouncing. Whole numbers are letters: one that found the mailbox full for two days is 1. */
export const BOUNCING_AT = 4;
const HALF_LIFE_MS = 30 * 86_400_000;
/** Several letters in one day are one sign. */
const ONE_SIGN_MS = 20 * 3_600_000;

const faded = ({ score, at }: Evidence, now: Date): number =>
  at === null ? 0 : score * 0.5 ** (Math.max(0, now.getTime() - at.getTime()) / HALF_LIFE_MS);

/** Adds a sign of this weight. Signs add up over days, fade by half in a month, and several within a day are the strongest of them. */
export function withSign(before: Evidence, weight: number, now: Date): Evidence & { bouncing: boolean } {
  const old = faded(before, now);
  const sameDay = before.at !== null && Math.abs(now.getTime() - before.at.getTime()) < ONE_SIGN_MS;
  const score = sameDay ? Math.max(old, weight) : old + weight;
  return { score, at: now, bouncing: score >= BOUNCING_AT };
}

/** What is left after a letter was taken: half of it, and nothing once it is little. */
export function afterDelivery({ score, at }: Evidence, now: Date): Evidence {
  const left = faded({ score, at }, now) / 2;
  return left < 0.3 ? { score: 0, at: null } : { score: left, at };
}

/** So many mailboxes of one route refused alike within an hour, and more than were taken: then it is the way, not the mailboxes. */
export const PATTERN = { mailboxes: 10, withinMs: 3_600_000 };
export const isPattern = (refusedAlike: number, taken: number): boolean =>
  refusedAlike >= PATTERN.mailboxes && refusedAlike > taken;
