import type { Context } from '@/server/context';
import { type Kept, Returns } from '@/server/delivery/returned';
import { takeApart } from '@/server/delivery/take-apart';

/** What the world sends back, as raw mails. */

const multipart = (head: string[], type: string, parts: [head: string, body: string][]) =>
  [
    ...head,
    'MIME-Version: 1.0',
    `Content-Type: ${type}; boundary="part-7"`,
    '',
    ...parts.flatMap(([of, body]) => ['--part-7', of, '', body, '']),
    '--part-7--',
    '',
  ].join('\r\n');

const DAEMON = [
  'From: Mail Delivery System <mailer-daemon@heronmail.example>',
  'Subject: Undelivered Mail Returned to Sender',
  'Auto-Submitted: auto-replied',
];

/** A notice as RFC 3464 has it; `original` is our letter, or its head. */
export const notice = (address: string, of: { status?: string; action?: string; said?: string; original?: string } = {}) => {
  const { status = '5.1.1', action = 'failed', original = '' } = of;
  const said = of.said ?? `550 ${status} gone`;
  return multipart(DAEMON, 'multipart/report; report-type=delivery-status', [
    ['Content-Type: text/plain; charset=utf-8', `Your mail to ${address} was not delivered.`],
    [
      'Content-Type: message/delivery-status',
      `Reporting-MTA: dns; mx.heronmail.example\r\n\r\nFinal-Recipient: rfc822; ${address}\r\nAction: ${action}\r\nStatus: ${status}\r\nDiagnostic-Code: smtp; ${said}`,
    ],
    ...(original ? [['Content-Type: message/rfc822', original] as [string, string]] : []),
  ]);
};

/** A complaint of RFC 5965 about a letter, whose raw source is given. */
export const complaint = (original: string, { type = 'abuse', fields = [] as string[] } = {}) =>
  multipart(
    ['From: Feedback <loop@heronmail.example>', 'Subject: A report about a mail'],
    'multipart/report; report-type=feedback-report',
    [
      ['Content-Type: text/plain', 'This is a report about a mail.'],
      [
        'Content-Type: message/feedback-report',
        [`Feedback-Type: ${type}`, 'User-Agent: HeronLoop/2.1', 'Version: 1', ...fields].join('\r\n'),
      ],
      ['Content-Type: message/rfc822', original],
    ],
  );

export const mail = (head: string[], text: string) =>
  [...head, 'MIME-Version: 1.0', 'Content-Type: text/plain; charset=utf-8', '', text, ''].join('\r\n');
export const answer = (text: string, head: string[] = []) =>
  mail(['From: Mara <mara@heronmail.example>', 'Subject: Re: Slow light', ...head], text);

/** What the mailroom makes of a raw mail to an address of ours. */
export async function comesBack(ctx: Context, to: string, raw: string | Buffer, envelopeFrom = ''): Promise<Kept> {
  return new Returns(ctx).take(to, await takeApart(Buffer.from(raw), envelopeFrom));
}
/** A test mailbox's answer: the head of our letter as it was received. */
export const withHead = (head: string) =>
  multipart(
    ['From: Verdicts <verdicts@heronmail.example>', 'Subject: What we thought', 'Auto-Submitted: auto-replied'],
    'multipart/mixed',
    [
      ['Content-Type: text/plain', 'Below.'],
      ['Content-Type: text/rfc822-headers', head],
    ],
  );
