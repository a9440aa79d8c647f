/* What this world mails back, as raw source. */

type Back = { returnPath: string; recipient: string; host: string; date: Date; original: string };
type Part = [head: string, body: string];

const stamp = (date: Date) => date.toUTCString().replace('GMT', '+0000');
const headOf = (source: string) => source.split(/\r?\n\r?\n/)[0] ?? '';

function mail(of: Back, head: string[], type: string, parts: Part[]): string {
  const boundary = `part-${of.date.getTime()}`;
  return [
    ...head,
    `To: ${of.returnPath}`,
    `Date: ${stamp(of.date)}`,
    'MIME-Version: 1.0',
    `Content-Type: ${type}; boundary="${boundary}"`,
    '',
    ...parts.flatMap(([partHead, body]) => [`--${boundary}`, partHead, '', body, '']),
    `--${boundary}--`,
    '',
  ].join('\r\n');
}
const plain = (of: Back, head: string[], text: string) =>
  [
    ...head,
    `To: ${of.returnPath}`,
    `Date: ${stamp(of.date)}`,
    'MIME-Version: 1.0',
    'Content-Type: text/plain; charset=utf-8',
    '',
    text,
    '',
  ].join('\r\n');
const daemon = (of: Back, subject: string) => [
  `From: Mail delivery at ${of.host} <mailer-daemon@${of.host}>`,
  `Subject: ${subject}`,
  'Auto-Submitted: auto-replied',
];
const TEXT = 'Content-Type: text/plain; charset=utf-8';

/** A mailbox turned out to be gone, told as five kinds of mail server tell it (RFC 3464, and not quite). */
const GONE: ((of: Back) => string)[] = [
  (of) =>
    mail(of, daemon(of, 'Your message could not be delivered'), 'multipart/report; report-type=delivery-status', [
      [TEXT, `The mailbox ${of.recipient} does not exist any more.`],
      [
        'Content-Type: message/delivery-status',
        `Reporting-MTA: dns; ${of.host}\r\n\r\nFinal-Recipient: rfc822; ${of.recipient}\r\nAction: failed\r\nStatus: 5.1.1\r\nDiagnostic-Code: smtp; 550 5.1.1 The mailbox does not exist`,
      ],
      ['Content-Type: text/rfc822-headers', headOf(of.original)],
    ]),
  // "5.0.0" for everything, and the machine part under a wrong type.
  (of) =>
    mail(of, daemon(of, 'Delivery Status Notification (Failure)'), 'multipart/mixed', [
      [TEXT, 'Delivery to the following recipients failed.'],
      [
        'Content-Type: application/octet-stream',
        `Reporting-MTA: dns; ${of.host}\r\nFinal-Recipient: rfc822;<${of.recipient}>\r\nAction: failed\r\nStatus: 5.0.0\r\nDiagnostic-Code: smtp;550 No such user here`,
      ],
      ['Content-Type: message/rfc822', of.original],
    ]),
  // In words alone.
  (of) =>
    plain(
      of,
      daemon(of, 'failure notice'),
      `Hi. This is the mail program at ${of.host}.\r\nI was not able to deliver your message to the following addresses. This is a permanent error; I have given up.\r\n\r\n<${of.recipient}>:\r\nSorry, no mailbox here by that name. (#5.1.1)\r\n\r\n--- Below this line is a copy of the message.\r\n\r\n${headOf(of.original)}`,
    ),
  // A status cut short, with the words in a frame of another server's.
  (of) =>
    mail(of, daemon(of, 'Undelivered Mail Returned to Sender'), 'multipart/report; report-type=delivery-status', [
      [TEXT, `<${of.recipient}>: host inner.${of.host} said: 550 5.1.1 User unknown (in reply to RCPT TO command)`],
      [
        'Content-Type: message/delivery-status',
        `Reporting-MTA: dns; ${of.host}\r\n\r\nOriginal-Recipient: rfc822;${of.recipient}\r\nFinal-Recipient: rfc822; u1234@inner.${of.host}\r\nAction: failed\r\nStatus: 5.1\r\nRemote-MTA: dns; inner.${of.host}\r\nDiagnostic-Code: smtp; host inner.${of.host} said: 550 5.1.1 User unknown (in reply to RCPT TO\r\n command)`,
      ],
      ['Content-Type: message/rfc822', of.original],
    ]),
  // The address in the head, words in the letter.
  (of) =>
    plain(
      of,
      [...daemon(of, 'Undeliverable: your letter'), `X-Failed-Recipients: ${of.recipient}`],
      'Your message could not be delivered to one of its recipients.\r\nThe address was not found: 550 5.1.1 the user does not exist here.',
    ),
];
/** Which dialect a mailbox’s server speaks: always the same for the same address. */
export const dialectOf = (address: string): number =>
  [...address].reduce((sum, letter) => (sum * 31 + letter.charCodeAt(0)) % 9_973, 7) % GONE.length;
export const goneNotice = (of: Back, dialect = dialectOf(of.recipient)): string => GONE[dialect]!(of);

/** It is late, and still on its way (RFC 3464: "delayed"). */
export const lateNotice = (of: Back): string =>
  mail(of, daemon(of, 'Your message is late'), 'multipart/report; report-type=delivery-status', [
    [TEXT, `Your message to ${of.recipient} was not delivered yet. We keep trying; you need do nothing.`],
    [
      'Content-Type: message/delivery-status',
      `Reporting-MTA: dns; ${of.host}\r\n\r\nFinal-Recipient: rfc822; ${of.recipient}\r\nAction: delayed\r\nStatus: 4.4.1\r\nDiagnostic-Code: smtp; 451 4.4.1 No answer yet`,
    ],
  ]);

export const awayNote = (of: Back): string =>
  plain(
    of,
    [`From: ${of.recipient}`, 'Subject: Out of office', 'Auto-Submitted: auto-replied'],
    'I am away until Monday, and read my mail then.',
  );

/** A person answers, with a mail program that answers to the return path. */
export const personAnswers = (of: Back): string =>
  plain(
    of,
    [`From: ${of.recipient}`, 'Subject: Re: your letter'],
    'Thank you for this one. My grandfather kept such a lamp on the boat.',
  );

/** A reader presses "junk", and their provider reports it (RFC 5965), as most do: with the reader's address made unreadable. */
export const junkReport = (of: Back): string =>
  mail(
    of,
    [`From: Reports of ${of.host} <reports@${of.host}>`, 'Subject: A mail was reported'],
    'multipart/report; report-type=feedback-report',
    [
      [TEXT, 'One of our users reported the attached mail as junk.'],
      [
        'Content-Type: message/feedback-report',
        `Feedback-Type: abuse\r\nUser-Agent: ${of.host.replace(/^mx\./, '')}\r\nVersion: 1\r\nOriginal-Mail-From: <${of.returnPath}>\r\nArrival-Date: ${stamp(of.date)}`,
      ],
      ['Content-Type: message/rfc822', headOf(of.original).replace(/^(To|Delivered-To):.*$/gim, '$1: <hidden@hidden.example>')],
    ],
  );

/** An answer to a test letter: the fields that this mailbox wrote above it (RFC 8601, RFC 5321 section 4.4), then its own header. */
export const verdictReply = (of: Back & { trace: string }): string =>
  mail(
    of,
    [`From: Verdicts at ${of.host} <${of.recipient}>`, 'Subject: What we thought of your letter', 'Auto-Submitted: auto-replied'],
    'multipart/mixed',
    [
      [TEXT, 'The head of your letter as it was received stands below.'],
      ['Content-Type: text/rfc822-headers', `${of.trace}${headOf(of.original)}`],
    ],
  );
