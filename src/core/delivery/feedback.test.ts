import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { readFeedback, readHead, traitsOf } from './feedback';

const REPORT = `Feedback-Type: abuse\r
User-Agent: HeronLoop/2.1\r
Version: 1\r
Original-Mail-From: <b-abcdefghijklmnopqrstuvwxyz23456@bounce.lanternfish.example>\r
Original-Rcpt-To: <mara@heronmail.example>\r
Arrival-Date: Tue, 24 Nov 2026 09:00:00 GMT\r
Source-IP: 192.0.2.7\r
Reported-Domain: Lanternfish.example\r
Incidents: 3\r
`;

describe('reports of readers and providers', () => {
  it('are read field by field (RFC 5965)', () => {
    expect(readFeedback(REPORT)).toEqual({
      kind: 'complaint',
      type: 'abuse',
      reporter: 'HeronLoop/2.1',
      mailFrom: 'b-abcdefghijklmnopqrstuvwxyz23456@bounce.lanternfish.example',
      recipients: ['mara@heronmail.example'],
      arrival: new Date('2026-11-24T09:00:00Z'),
      source: '192.0.2.7',
      domain: 'lanternfish.example',
      failure: '',
      incidents: 3,
    });
  });
  it.each([
    ['abuse', 'complaint'],
    ['fraud', 'complaint'],
    ['other', 'complaint'],
    ['Not-Spam', 'not spam'],
    ['opt-out', 'opt-out'],
    ['auth-failure', 'not authenticated'],
    ['something-new', 'other'],
    ['', 'other'],
  ])('of type %j are %s', (type, kind) => {
    expect(readFeedback(`Feedback-Type: ${type}\nUser-Agent: x\nVersion: 1\n`).kind).toBe(kind);
  });
  it('know a letter by its return path, its Message-ID and its Feedback-ID, where the address is hidden', () => {
    const hidden = readFeedback('Feedback-Type: abuse\nUser-Agent: x\nOriginal-Rcpt-To: <redacted@heronmail.example>\n');
    const head = readHead(
      'Return-Path: <b-abcdef@bounce.lanternfish.example>\r\nMessage-ID:\r\n <n-qrstuv@lanternfish.example>\r\nFeedback-ID: 0b8f5d6c-1111-4222-8333-123456789012.1:aaaa:post:inkset\r\n\r\nbody: no',
    );
    expect(traitsOf(hidden, head)).toEqual({
      returnLocals: ['b-abcdef'],
      messageLocal: 'n-qrstuv',
      letter: '0b8f5d6c-1111-4222-8333-123456789012',
    });
    expect(traitsOf(readFeedback(REPORT), new Map()).returnLocals).toEqual(['b-abcdefghijklmnopqrstuvwxyz23456']);
  });
  it('never throw, and say no more than a few recipients and incidents', () => {
    fc.assert(fc.property(fc.string({ unit: 'binary' }), (text) => void traitsOf(readFeedback(text), readHead(text))));
    const many = `Feedback-Type: abuse\nIncidents: 99999999\n${'Original-Rcpt-To: a@b.example\n'.repeat(1_000)}`;
    expect(readFeedback(many)).toMatchObject({ incidents: 1_000, recipients: { length: 20 } });
  });
});
