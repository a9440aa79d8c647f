/** What an SMTP server said, reduced to what we do next. */
export type Outcome =
  | { kind: 'delivered'; response: string }
  /** Try again later: the server asked for it, or could not be reached. */
  | { kind: 'later'; response: string }
  /** This address is dead (RFC 3463 X.1.x and the like): never write to it again. */
  | { kind: 'dead'; response: string }
  /** This letter was refused, the address may be fine (policy, content, size). */
  | { kind: 'refused'; response: string };

/** Enhanced status codes (RFC 3463) that say the address itself is no good. */
const DEAD = /^5\.(1\.[0-36]|1\.10|2\.1)$/;
const FULL = /^[45]\.2\.2$/;

/**
 * Reads an SMTP reply (RFC 5321 4.2) with its enhanced code if any. 4yz is always "later"; 5yz is "dead" only when the code
 * names the address, or when there is no enhanced code and the reply came to RCPT with 550 or 551; a full mailbox is "later"
 * even as 552, since people empty mailboxes.
 */
export function readReply(code: number, text: string, command: 'RCPT' | 'other' = 'other'): Outcome {
  const response = text
    .replace(/[\u0000-\u001f\u007f]+/g, ' ')
    .trim()
    .slice(0, 300);
  const enhanced = /(?:^|\s)([245]\.\d{1,3}\.\d{1,3})(?=\s|$)/.exec(response.replace(/^\d{3}[ -]/, ''))?.[1];
  if (code >= 200 && code < 400) return { kind: 'delivered', response };
  if (enhanced && FULL.test(enhanced)) return { kind: 'later', response };
  if (code < 500) return { kind: 'later', response };
  if (enhanced ? DEAD.test(enhanced) : command === 'RCPT' && (code === 550 || code === 551 || code === 553))
    return { kind: 'dead', response };
  return { kind: 'refused', response };
}

const MINUTE = 60_000;
const HOUR = 60 * MINUTE;
/** Waits before the second, third ... try: quick at first, then as RFC 5321 4.5.4.1 asks, giving up after about three days. */
const WAITS = [MINUTE, 5 * MINUTE, 15 * MINUTE, HOUR, 3 * HOUR, 6 * HOUR, 12 * HOUR, 24 * HOUR, 24 * HOUR];

/** When to try again after `attempts` tries, or null when it is time to give up. */
export function nextTry(attempts: number, now: Date): Date | null {
  const wait = WAITS[attempts - 1];
  return wait === undefined ? null : new Date(now.getTime() + wait);
}
