import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { bounceOutcome, readDeliveryStatus } from './dsn';

const NOTICE = `Reporting-MTA: dns; mx.kestrel.example\r
\r
Final-Recipient: rfc822; Gone@kestrel.example\r
Action: failed\r
Status: 5.1.1 (bad mailbox)\r
Diagnostic-Code: smtp; 550 5.1.1\r
 The mailbox does not exist\r
\r
Final-Recipient: rfc822; slow@kestrel.example\r
Action: delayed\r
Status: 4.4.1\r
`;

describe('delivery status notifications', () => {
  it('are read recipient by recipient, folded lines joined (RFC 3464)', () => {
    expect(readDeliveryStatus(NOTICE)).toEqual([
      {
        recipient: 'Gone@kestrel.example',
        original: '',
        action: 'failed',
        status: '5.1.1',
        diagnostic: '550 5.1.1 The mailbox does not exist',
      },
      { recipient: 'slow@kestrel.example', original: '', action: 'delayed', status: '4.4.1', diagnostic: '' },
    ]);
  });
  it('bury a mailbox only when it is the mailbox that is gone', () => {
    const [gone, slow] = readDeliveryStatus(NOTICE);
    expect(bounceOutcome(gone!)?.kind).toBe('dead');
    expect(bounceOutcome(slow!)).toBeNull();
    const policy = {
      recipient: 'a@b.example',
      original: '',
      action: 'failed' as const,
      status: '5.7.1',
      diagnostic: '550 5.7.1 Not wanted',
    };
    expect(bounceOutcome(policy)?.kind).toBe('refused');
    const full = {
      recipient: 'a@b.example',
      original: '',
      action: 'failed' as const,
      status: '5.2.2',
      diagnostic: '552 5.2.2 Mailbox full',
    };
    expect(bounceOutcome(full)?.kind).toBe('refused');
    // Without a word there is a sign, and no proof.
    expect(bounceOutcome({ ...full, status: '', diagnostic: '' })).toMatchObject({ kind: 'refused', evidence: 2 });
    expect(bounceOutcome({ ...full, status: '5.0.0', diagnostic: '550 5.0.0 User unknown' })?.kind).toBe('dead');
    expect(bounceOutcome({ ...full, status: '5.0.0', diagnostic: 'No such user here' })?.kind).toBe('dead');
  });
  it('never throw, whatever they hold', () => {
    fc.assert(fc.property(fc.string({ unit: 'binary' }), (text) => void readDeliveryStatus(text).map(bounceOutcome)));
  });
});
