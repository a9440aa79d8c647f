import { mindsPace, type Reason, reasonOf } from '../delivery/reason';
import { whole } from '../writing/slots';

/** What an SMTP server said of one mail, reduced to what we do next. Failures of the way (connection, TLS, DNS) are no outcome: nothing was said of the mail. */
export type Outcome =
  | { kind: 'delivered'; response: string }
  /** Try again later: the server asked for it. `slow` when it minds our pace and not this mail; then the mail is not charged with a try. */
  | { kind: 'later'; response: string; reason: Reason; slow: boolean }
  /** This mailbox is gone (RFC 3463 X.1.x and the like). `words` is what was said, without what differs from mailbox to mailbox. */
  | { kind: 'dead'; response: string; reason: 'dead'; words: string }
  /** This mail was refused. `evidence` against the mailbox: 0 where the words speak of us (policy, content, our address), more where they may speak of it. */
  | { kind: 'refused'; response: string; reason: Reason; evidence: number };

/** What a server said as plain text on one line: no control or bidirectional characters, nothing that a database or a screen could choke on, at most 300 characters. */
export function plainReply(text: string): string {
  return whole(text)
    .replace(/[\u0000-\u001f\u007f-\u009f\u00ad\u200b-\u200f\u2028-\u202f\u2060-\u206f\ufeff\ufff0-\uffff]+/g, ' ')
    .replace(/ {2,}/g, ' ')
    .trim()
    .slice(0, 300);
}

/** The words of a reply without what differs from one mailbox to the next: addresses, numbers, ids. Two replies alike in this are the same refusal. */
export const alike = (response: string): string =>
  response
    .toLowerCase()
    .replace(/<[^>]*>|\S+@\S+/g, '@')
    .replace(/\b[0-9a-f]{6,}\b|\d+/g, '#')
    .replace(/\s+/g, ' ')
    .slice(0, 120);

/**
 * Reads an SMTP reply (RFC 5321 4.2) with its enhanced code if any (RFC 3463). 4yz is "later". 5yz is "dead" only when the code names the
 * mailbox and the words do not speak of us; without a telling code the words are read, and what stays unclear is evidence, not proof. A full
 * mailbox is "later" even as 552, since people empty mailboxes. Why it was not taken comes with it (`reasonOf`).
 */
export function readReply(code: number, text: string, command: 'RCPT' | 'other' = 'other'): Outcome {
  const response = plainReply(text);
  if (code >= 200 && code < 400) return { kind: 'delivered', response };
  const { reason, against } = reasonOf(code, response);
  if (reason === 'full') return { kind: 'later', response, reason, slow: false };
  if (code < 500) return { kind: 'later', response, reason, slow: code === 421 || mindsPace(response) };
  if (against === 'proof') return { kind: 'dead', response, reason: 'dead', words: alike(response) };
  // Without a word about anything a refusal of the recipient is a sign, no more; one of the letter is none.
  return { kind: 'refused', response, reason, evidence: against === 2 && command !== 'RCPT' ? 0 : against };
}

const MINUTE = 60_000;
const HOUR = 60 * MINUTE;
/** The longest wait between two tries of a mail. */
export const LONGEST_WAIT_MS = 4 * HOUR;
const LEAST_TRIES = 5;
/** A letter is stale after two days; for a mail that somebody waits for RFC 5321 section 4.5.4.1 wants four to five. */
export const LETTER_LIFE_MS = 48 * HOUR;
export const MAIL_LIFE_MS = 5 * 24 * HOUR;

/**
 * When to try again after `attempts` tries, the first of them at `since`: waits double from a minute to four hours. Null once its life is over, but
 * never before some tries, so that a clock that jumps does not give up what was hardly tried.
 */
export function nextTry(attempts: number, since: Date, now: Date, lifeMs: number): Date | null {
  const age = now.getTime() - since.getTime();
  if (age >= lifeMs && attempts >= LEAST_TRIES) return null;
  return new Date(now.getTime() + Math.min(LONGEST_WAIT_MS, MINUTE * 2 ** Math.min(attempts - 1, 12)));
}
