import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { type Against, REASON_NAMES, type Reason, reasonOf, reasonOfWay } from './reason';

/** What mail servers of the world say, with the names changed: code, words, the reason, and what it is against the mailbox. */
const SAID: [number, string, Reason, Against][] = [
  [550, '5.1.1 <ada@a.example>: Recipient address rejected: User unknown in local recipient table', 'dead', 'proof'],
  [550, '5.1.1 The account that you tried to reach does not exist. Please check for typing errors.', 'dead', 'proof'],
  [550, '5.1.10 RESOLVER.ADR.RecipientNotFound; Recipient not found by address lookup', 'dead', 'proof'],
  [550, '5.2.1 The account that you tried to reach is disabled.', 'dead', 'proof'],
  [554, 'delivery error: dd This user doesn’t have an account here', 'unknown', 2],
  [554, "delivery error: dd This user doesn't exist here", 'dead', 'proof'],
  [550, 'Requested action not taken: mailbox unavailable', 'dead', 'proof'],
  [550, 'No such user here', 'dead', 'proof'],
  [550, 'No Such User Here"', 'dead', 'proof'],
  [550, 'Invalid recipient <ada@a.example> (#5.1.1)', 'dead', 'proof'],
  [511, 'sorry, no mailbox here by that name (#5.1.1 - chkuser)', 'dead', 'proof'],
  [550, 'Unrouteable address', 'dead', 'proof'],
  [550, '5.0.0 User unknown', 'dead', 'proof'],
  [550, '5.1.2 Bad destination system: no such domain', 'dead', 'proof'],
  [556, '5.1.10 Recipient address has null MX', 'dead', 'proof'],
  [550, 'Empfänger ada@a.example unbekannt', 'dead', 'proof'],
  [550, 'Cette adresse n’existe pas', 'dead', 'proof'],
  [550, 'El usuario no existe', 'dead', 'proof'],
  [550, '5.4.1 Recipient address rejected: Access denied. AS(201806281)', 'dead', 1],
  [550, '5.7.1 User unknown', 'dead', 1],
  [550, '5.1.1 Rejected: your IP address 192.0.2.7 is blocked', 'reputation', 1],
  [452, '4.2.2 The recipient is over quota', 'full', 0],
  [552, '5.2.2 This message is larger than the current free space of the mailbox', 'full', 0],
  [552, 'Mailbox full', 'full', 0],
  [552, 'RecipientOverQuota: quota exceeded', 'full', 0],
  [554, 'Postfach voll', 'full', 0],
  [552, '5.2.2 Quota exceeded (mailbox for user is full)', 'full', 0],
  [452, '4.3.1 Insufficient system storage', 'slow', 0],
  [
    421,
    '4.7.0 Our system has detected an unusual rate of mail from your address. To protect our users it has been temporarily rate limited',
    'slow',
    0,
  ],
  [421, '4.7.28 Too many messages from your network', 'slow', 0],
  [
    450,
    '4.2.1 The user you are trying to contact is receiving mail at a rate that prevents additional messages from being delivered',
    'slow',
    0,
  ],
  [451, '4.7.650 The mail server 192.0.2.7 has been temporarily rate limited', 'slow', 0],
  [421, 'Too many concurrent SMTP connections from this IP', 'slow', 0],
  [451, '4.3.2 Please try again later, system is busy', 'slow', 0],
  [421, 'Service not available, closing transmission channel', 'slow', 0],
  [452, '4.5.3 Too many recipients', 'slow', 0],
  [432, '4.3.2 Concurrent connections limit exceeded', 'slow', 0],
  [450, '4.2.0 <ada@a.example>: Recipient address rejected: Greylisted, see the help page', 'greylist', 0],
  [451, '4.7.1 Greylisting in action, please come back later', 'greylist', 0],
  [450, '4.7.1 Please try again in 300 seconds', 'greylist', 0],
  [451, 'Graylisted - please try again', 'greylist', 0],
  [554, '5.7.1 Service unavailable; Client host [192.0.2.7] blocked using bl.lists.example', 'reputation', 0],
  [
    550,
    '5.7.1 Unfortunately, messages from [192.0.2.7] weren’t sent. Part of their network is on our block list',
    'reputation',
    0,
  ],
  [550, '5.7.1 Our system has detected that the sender domain has a very low reputation', 'reputation', 0],
  [421, '4.7.0 Messages from 192.0.2.7 temporarily deferred due to user complaints', 'reputation', 0],
  [554, 'Your access to this mail system has been rejected due to the sending MTA’s poor reputation', 'reputation', 0],
  [550, '5.7.606 Access denied, banned sending IP [192.0.2.7]', 'reputation', 0],
  [553, '5.3.0 mail from 192.0.2.7 rejected: listed at lists.example', 'reputation', 0],
  [554, '5.7.1 Message rejected as spam by content scanner', 'content', 0],
  [550, 'High probability of spam', 'content', 0],
  [552, '5.7.0 This message was blocked because its content presents a potential security issue', 'content', 0],
  [554, '5.6.0 Message contains invalid header', 'content', 0],
  [550, '5.7.1 This message has been classified as bulk mail', 'content', 0],
  [554, 'Virus found: message not delivered', 'content', 0],
  [550, '5.7.26 This mail has been blocked because the sender is unauthenticated', 'authentication', 0],
  [550, '5.7.1 Email rejected per DMARC policy for a.example', 'authentication', 0],
  [550, '5.7.23 SPF validation failed', 'authentication', 0],
  [550, '5.7.25 The sending address does not have a PTR record', 'authentication', 0],
  [554, '5.7.1 <host[192.0.2.7]>: Client host rejected: cannot find your reverse hostname', 'authentication', 0],
  [550, '5.1.8 Sender address rejected: Domain not found', 'authentication', 0],
  [550, 'relay not permitted', 'authentication', 0],
  [530, '5.7.0 Must issue a STARTTLS command first; encryption required', 'authentication', 0],
  [535, '5.7.8 Authentication credentials invalid', 'authentication', 0],
  [450, '4.7.25 Client host rejected: cannot find your hostname', 'authentication', 0],
  [550, '5.7.1 Not wanted here', 'policy', 0],
  [554, 'Message not allowed for policy reasons', 'policy', 0],
  [550, '5.7.133 Sender not authenticated for group', 'authentication', 0],
  [552, '5.3.4 Message size exceeds fixed limit', 'policy', 0],
  [550, 'Administrative prohibition', 'policy', 0],
  [550, '5.7.1 Delivery not authorized, message refused', 'policy', 0],
  [554, '5.4.14 Hop count exceeded - possible mail loop', 'loop', 0],
  [554, '5.4.6 Too many hops', 'loop', 0],
  [550, 'mail loop detected', 'loop', 0],
  [450, '4.4.7 Message delayed', 'unreachable', 0],
  [550, '5.4.7 Delivery time expired', 'unreachable', 0],
  [550, '5.4.4 Host not found', 'unreachable', 0],
  [450, '4.4.1 connect to mx.a.example[192.0.2.9]:25: Connection timed out', 'unreachable', 0],
  [550, '4.4.316 Connection refused [Message=Socket error code 10061]', 'unreachable', 0],
  [550, '5.3.0 Remote error', 'unknown', 0],
  [550, 'Rejected', 'unknown', 2],
  [554, 'Transaction failed', 'unknown', 2],
];

describe('why a mail did not arrive', () => {
  it.each(SAID)('%i %s: %s (%s)', (code, words, reason, against) => {
    expect(reasonOf(code, `${code} ${words}`)).toEqual({ reason, against });
  });
  it('is told of each reason by at least one', () => {
    expect(new Set(SAID.map(([, , reason]) => reason))).toEqual(new Set(REASON_NAMES));
  });
  it('is told by the code where the words say nothing, and never by the name of a host or a mailbox', () => {
    expect(reasonOf(550, '550 5.1.1 <spam.blocked@dnsbl.example>: no').reason).toBe('dead');
    expect(reasonOf(550, '550 5.7.1 see https://help.example/spam-policy').reason).toBe('policy');
  });
  it.each([
    ['mx.a.example said: 421 4.7.0 Too many connections', 'slow'],
    ['421 4.7.1 Greylisting in action', 'greylist'],
    ['mx.a.example does not answer', 'unreachable'],
    [null, 'unreachable'],
  ])('of a way: %j is %s', (words, reason) => {
    expect(reasonOfWay(words)).toBe(reason);
  });
  it('never takes what comes later for a dead mailbox, and is quick whatever is said', () => {
    fc.assert(
      fc.property(fc.integer({ min: 400, max: 499 }), fc.string({ unit: 'binary', maxLength: 300 }), (code, words) => {
        expect(reasonOf(code, `${code} ${words}`).against).not.toBe('proof');
      }),
    );
    const began = performance.now();
    for (const word of ['user ', 'address a', 'mailbox.full ', 'ip is ']) reasonOf(550, `550 ${word.repeat(100).slice(0, 290)}`);
    expect(performance.now() - began).toBeLessThan(1_000);
  });
});
