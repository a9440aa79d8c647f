/**
 * How a mailbox behaves is said by how its address begins, so that every answer of the outside world can be had on purpose:
 *   nobody-…  no such user, said at once (550 5.1.1)
 *   gone-…    taken, then sent back with a notice (a delivery status notification with 5.1.1)
 *   full-…    mailbox full (452 4.2.2)
 *   slow-…    "slow down" (451 4.7.1) for the first two minutes of this world's time, then taken
 *   refuse-…  the letter is refused for policy (550 5.7.1); the mailbox itself is fine
 *   verdicts@ taken, and answered with the head of the letter as it was received: what SPF, DKIM, DMARC and the reverse name gave
 * Everything else exists and takes mail.
 */
export type Manner = 'takes' | 'nobody' | 'gone' | 'full' | 'slow' | 'refuse';
export const SLOW_MS = 120_000;

export function mannerOf(address: string): Manner {
  const match = /^(nobody|gone|full|slow|refuse)-/i.exec(address);
  return match ? (match[1]!.toLowerCase() as Manner) : 'takes';
}

/** A delivery status notification for a mailbox that turned out to be gone (RFC 3464, RFC 6522), as raw source. */
export function goneNotice(to: { returnPath: string; recipient: string; host: string; date: Date; original: string }): string {
  const boundary = `notice-${to.date.getTime()}`;
  const headers = to.original.split(/\r?\n\r?\n/)[0] ?? '';
  return [
    `From: Mail delivery at ${to.host} <postmaster@${to.host}>`,
    `To: ${to.returnPath}`,
    'Subject: Your message could not be delivered',
    `Date: ${to.date.toUTCString().replace('GMT', '+0000')}`,
    'Auto-Submitted: auto-replied',
    'MIME-Version: 1.0',
    `Content-Type: multipart/report; report-type=delivery-status; boundary="${boundary}"`,
    '',
    `--${boundary}`,
    'Content-Type: text/plain; charset=utf-8',
    '',
    `The mailbox ${to.recipient} does not exist any more.`,
    '',
    `--${boundary}`,
    'Content-Type: message/delivery-status',
    '',
    `Reporting-MTA: dns; ${to.host}`,
    '',
    `Final-Recipient: rfc822; ${to.recipient}`,
    'Action: failed',
    'Status: 5.1.1',
    'Diagnostic-Code: smtp; 550 5.1.1 The mailbox does not exist',
    '',
    `--${boundary}`,
    'Content-Type: text/rfc822-headers',
    '',
    headers,
    '',
    `--${boundary}--`,
    '',
  ].join('\r\n');
}

/** An answer to a test letter: the fields that this mailbox wrote above it (RFC 8601, RFC 5321 section 4.4), then its own header. */
export function verdictReply(to: {
  returnPath: string;
  recipient: string;
  host: string;
  date: Date;
  trace: string;
  original: string;
}): string {
  const boundary = `verdicts-${to.date.getTime()}`;
  return [
    `From: Verdicts at ${to.host} <${to.recipient}>`,
    `To: ${to.returnPath}`,
    'Subject: What we thought of your letter',
    `Date: ${to.date.toUTCString().replace('GMT', '+0000')}`,
    'Auto-Submitted: auto-replied',
    'MIME-Version: 1.0',
    `Content-Type: multipart/mixed; boundary="${boundary}"`,
    '',
    `--${boundary}`,
    'Content-Type: text/plain; charset=utf-8',
    '',
    'The head of your letter as it was received stands below.',
    '',
    `--${boundary}`,
    'Content-Type: text/rfc822-headers',
    '',
    `${to.trace}${to.original.split(/\r?\n\r?\n/)[0] ?? ''}`,
    '',
    `--${boundary}--`,
    '',
  ].join('\r\n');
}
