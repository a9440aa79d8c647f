import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { deliveryStatusOf, type Message, type Sort, sortOf } from './came-back';
import { bounceOutcome, namesRecipient, plainFailure, readDeliveryStatus } from './dsn';

const message = (over: Partial<Omit<Message, 'headers'>> & { headers?: Record<string, string> }): Message => ({
  envelopeFrom: 'mara@kestrel.example',
  from: 'Mara <mara@kestrel.example>',
  subject: 'Re: Slow light',
  parts: [{ type: 'text/plain', text: over.text ?? '' }],
  text: '',
  ...over,
  headers: new Map(Object.entries(over.headers ?? {})),
});
const DAEMON = { envelopeFrom: '', from: 'Mail Delivery System <mailer-daemon@kestrel.example>' };
const STATUS = 'Final-Recipient: rfc822; ada@kestrel.example\nAction: failed\nStatus: 5.1.1\n';

const SORTS: [string, Message, Sort][] = [
  [
    'a notice as it should be',
    message({
      ...DAEMON,
      headers: { 'content-type': 'multipart/report; report-type=delivery-status' },
      parts: [{ type: 'message/delivery-status', text: STATUS }],
    }),
    'status',
  ],
  ['one under a wrong type', message({ ...DAEMON, parts: [{ type: 'application/octet-stream', text: STATUS }] }), 'status'],
  [
    'one as text',
    message({ ...DAEMON, text: `It failed.\n\n${STATUS}`, parts: [{ type: 'text/plain', text: `It failed.\n\n${STATUS}` }] }),
    'status',
  ],
  [
    'one with a sender of its own',
    message({ headers: { 'auto-submitted': 'auto-replied' }, parts: [{ type: 'message/delivery-status', text: STATUS }] }),
    'status',
  ],
  [
    'a failure in words',
    message({ ...DAEMON, subject: 'Undelivered Mail Returned to Sender', text: '<ada@kestrel.example>: no such user' }),
    'failure in words',
  ],
  [
    'one that says it in the letter alone',
    message({ ...DAEMON, subject: 'Mail', text: 'Your message could not be delivered to one of its recipients' }),
    'failure in words',
  ],
  [
    'a complaint',
    message({
      headers: { 'content-type': 'multipart/report; report-type=feedback-report' },
      parts: [{ type: 'message/feedback-report', text: 'Feedback-Type: abuse\nUser-Agent: x/1\n' }],
    }),
    'feedback',
  ],
  [
    'a complaint as text',
    message({ parts: [{ type: 'text/plain', text: 'Feedback-Type: abuse\nUser-Agent: x/1\nVersion: 1\n' }] }),
    'feedback',
  ],
  [
    'somebody who is away',
    message({ subject: 'Out of office: Slow light', headers: { 'auto-submitted': 'auto-replied' } }),
    'away',
  ],
  ['the same in German, with no word of a program', message({ subject: 'Automatische Antwort: Slow light' }), 'away'],
  ['the same from nobody', message({ envelopeFrom: '', subject: 'Abwesenheitsnotiz' }), 'away'],
  [
    'away by its head alone',
    message({ subject: 'Thank you for your mail', headers: { 'auto-submitted': 'auto-replied' } }),
    'away',
  ],
  [
    'a question whether we are human',
    message({
      envelopeFrom: '',
      subject: 'Please confirm',
      text: 'To have your message delivered, please click the link: it puts you on my approved senders list.',
    }),
    'challenge',
  ],
  [
    'a receipt',
    message({
      headers: { 'content-type': 'multipart/report; report-type=disposition-notification' },
      parts: [{ type: 'message/disposition-notification', text: 'Disposition: manual-action/MDN-sent-manually; displayed' }],
    }),
    'receipt',
  ],
  ['a mail of a list', message({ headers: { 'list-id': '<a.example>' }, text: 'Hello' }), 'program'],
  ['a mail from nobody', message({ envelopeFrom: '', subject: 'Hello', text: 'Hello' }), 'program'],
  ['a person', message({ text: 'Thank you, this was good.' }), 'person'],
  ['a person who says so', message({ text: 'Thank you', headers: { 'auto-submitted': 'no' } }), 'person'],
  [
    'a person who tells of a bounce',
    message({
      subject: 'Fwd: Undelivered Mail',
      text: `Look at this:\n${STATUS}`,
      parts: [{ type: 'text/plain', text: `Look at this:\n${STATUS}` }],
    }),
    'person',
  ],
  ['a person who writes of being away', message({ subject: 'Re: away for the week', text: 'I read it all.' }), 'person'],
];

describe('what came back', () => {
  it.each(SORTS)('%s', (_name, of, sort) => {
    expect(sortOf(of)).toBe(sort);
  });
  it('a status in our own letter, which comes back with the notice, is none', () => {
    expect(
      deliveryStatusOf(
        message({
          ...DAEMON,
          parts: [
            { type: 'text/plain', text: 'Failed.' },
            { type: 'message/rfc822', text: STATUS },
          ],
        }),
      ),
    ).toBeNull();
  });
  it('never throws', () => {
    fc.assert(
      fc.property(fc.string({ unit: 'binary' }), fc.string({ unit: 'binary' }), fc.boolean(), (subject, text, nobody) => {
        sortOf(message({ subject, text, envelopeFrom: nobody ? '' : 'a@b.example', parts: [{ type: 'text/plain', text }] }));
        plainFailure(text, subject);
      }),
    );
  });
});

/** Notices as they are found in the world: what they say, and what that is for ada@kestrel.example. */
const FOUND: [string, string, string | null, string?][] = [
  [
    'as it should be',
    `Reporting-MTA: dns; mx.a.example\n\n${STATUS}Diagnostic-Code: smtp; 550 5.1.1 User unknown\n`,
    'dead',
    'dead',
  ],
  ['no empty line between message and recipient', `Reporting-MTA: dns; mx.a.example\n${STATUS}`, 'dead', 'dead'],
  [
    'no empty line between recipients',
    `Final-Recipient: rfc822; bo@a.example\nAction: delayed\nStatus: 4.2.2\n${STATUS}`,
    'dead',
    'dead',
  ],
  [
    'two recipients, the other one dead',
    `${STATUS.replace('ada', 'bo')}\nFinal-Recipient: rfc822; ada@kestrel.example\nAction: failed\nStatus: 5.2.2\n`,
    'refused',
    'full',
  ],
  [
    '"5.0.0" for everything',
    'Final-Recipient: rfc822; ada@kestrel.example\nAction: failed\nStatus: 5.0.0\nDiagnostic-Code: smtp; 550 Mailbox quota exceeded\n',
    'refused',
    'full',
  ],
  [
    'a status that the words contradict',
    'Final-Recipient: rfc822; ada@kestrel.example\nAction: failed\nStatus: 5.0.0\nDiagnostic-Code: X-Mail; host mx.a.example said: 550 5.7.1 Message rejected as spam (in reply to end of DATA command)\n',
    'refused',
    'content',
  ],
  [
    'a failure with a temporary code',
    'Final-Recipient: rfc822; ada@kestrel.example\nAction: failed\nStatus: 4.4.7\nDiagnostic-Code: smtp; 450 4.4.7 Delivery time expired\n',
    'refused',
    'unreachable',
  ],
  ['a delay with a final code', 'Final-Recipient: rfc822; ada@kestrel.example\nAction: delayed\nStatus: 5.1.1\n', null],
  [
    'a warning',
    'Final-Recipient: rfc822; ada@kestrel.example\nAction: delayed\nStatus: 4.4.1\nWill-Retry-Until: Mon, 30 Nov 2026 09:00:00 +0000\n',
    null,
  ],
  ['no action', 'Final-Recipient: rfc822; ada@kestrel.example\nStatus: 5.1.1\n', 'dead', 'dead'],
  [
    'a status cut short',
    'Final-Recipient: rfc822; ada@kestrel.example\nAction: failed\nStatus: 5.1\nDiagnostic-Code: smtp; 550 No such user\n',
    'dead',
    'dead',
  ],
  [
    'an action with words behind it',
    'Final-Recipient: RFC822;<Ada@Kestrel.example>\nAction: failed (no mailbox)\nStatus: 5.1.1 (bad destination mailbox address)\n',
    'dead',
    'dead',
  ],
  [
    'the address hidden behind the one we gave',
    'Original-Recipient: rfc822; ada+40kestrel.example\nFinal-Recipient: rfc822; u123@inner.a.example\nAction: failed\nStatus: 5.2.1\n',
    'dead',
    'dead',
  ],
  [
    'an address beyond ASCII',
    'Final-Recipient: utf-8; ad\\x{61}@kestrel.example\nAction: failed\nStatus: 5.1.1\n',
    'dead',
    'dead',
  ],
  [
    'relayed to a server that tells no more',
    'Final-Recipient: rfc822; ada@kestrel.example\nAction: relayed\nStatus: 2.1.9\n',
    null,
  ],
  ['expanded', 'Final-Recipient: rfc822; ada@kestrel.example\nAction: expanded\nStatus: 2.0.0\n', null],
  [
    'a failure with a good status',
    'Final-Recipient: rfc822; ada@kestrel.example\nAction: failed\nStatus: 2.0.0\nDiagnostic-Code: smtp; 554 5.4.14 Hop count exceeded\n',
    'refused',
    'loop',
  ],
  ['CR alone between lines', STATUS.replace(/\n/g, '\r'), 'dead', 'dead'],
];
const TOLD: [string, string, string | null, string?][] = [
  [
    'in a sentence',
    'Hi. This is the mail program at mx.a.example.\nI was not able to deliver your message.\n\n<ada@kestrel.example>:\n192.0.2.7 does not like recipient.\nRemote host said: 550 5.1.1 User unknown\nGiving up.\n\n--- Below this line is a copy of the message.\n\nReturn-Path: <b-x@bounce.a.example>\n',
    'dead',
    'dead',
  ],
  [
    'without a code',
    'The following address had permanent fatal errors:\n  ada@kestrel.example\n\nNo such user here.',
    'dead',
    'dead',
  ],
  ['full', 'Delivery to ada@kestrel.example failed: the mailbox is full. (#5.2.2)', 'refused', 'full'],
  [
    'blocked',
    '<ada@kestrel.example>: host mx.kestrel.example said: 554 5.7.1 blocked using bl.lists.example',
    'refused',
    'reputation',
  ],
  ['of another address', '<bo@kestrel.example>: 550 5.1.1 User unknown', null],
  [
    'only in our own letter',
    'Something happened.\n\n--- Original message follows\nDear ada@kestrel.example, 550 people read this, no such user.',
    null,
  ],
  ['of nothing in particular', 'Your message to ada@kestrel.example could be late.', null],
];
describe('notices as they are found', () => {
  it.each(FOUND)('%s', (_name, text, kind, reason) => {
    const own = readDeliveryStatus(text).find((report) => namesRecipient(report, 'ada@kestrel.example'));
    expect(own).toBeDefined();
    const outcome = bounceOutcome(own!);
    expect(outcome?.kind ?? null).toBe(kind);
    if (reason) expect(outcome).toMatchObject({ reason });
  });
  it.each(TOLD)('in words: %s', (_name, text, kind, reason) => {
    const outcome = plainFailure(text, 'ada@kestrel.example');
    expect(outcome?.kind ?? null).toBe(kind);
    if (reason) expect(outcome).toMatchObject({ reason });
  });
});
