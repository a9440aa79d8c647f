import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { readTlsReport } from './tls-report';

/** As in RFC 8460, appendix B, with our names. */
const REPORT = {
  'organization-name': 'Heron Mail',
  'date-range': { 'start-datetime': '2026-11-24T00:00:00Z', 'end-datetime': '2026-11-24T23:59:59Z' },
  'contact-info': 'tls@heronmail.example',
  'report-id': '5065427c-23d3',
  policies: [
    {
      policy: {
        'policy-type': 'sts',
        'policy-string': ['version: STSv1', 'mode: testing'],
        'policy-domain': 'Bounce.Lanternfish.example',
        'mx-host': '*.inkset.example',
      },
      summary: { 'total-successful-session-count': 5326, 'total-failure-session-count': 303 },
      'failure-details': [
        {
          'result-type': 'certificate-expired',
          'sending-mta-ip': '2001:db8::1',
          'receiving-mx-hostname': 'in.inkset.example',
          'failed-session-count': 100,
        },
        { 'result-type': 'starttls-not-supported', 'receiving-mx-hostname': 'in2.inkset.example', 'failed-session-count': 203 },
      ],
    },
  ],
};

describe('reports about encryption', () => {
  it('are read by domain', () => {
    expect(readTlsReport(JSON.stringify(REPORT))).toEqual({
      reporter: 'Heron Mail',
      id: '5065427c-23d3',
      from: new Date('2026-11-24T00:00:00Z'),
      to: new Date('2026-11-24T23:59:59Z'),
      domains: [
        {
          domain: 'bounce.lanternfish.example',
          policy: 'sts',
          good: 5326,
          failed: 303,
          failures: [
            { type: 'certificate-expired', host: 'in.inkset.example', count: 100 },
            { type: 'starttls-not-supported', host: 'in2.inkset.example', count: 203 },
          ],
        },
      ],
    });
  });
  it.each([
    '',
    '[]',
    'null',
    '{"policies":[]}',
    JSON.stringify({ ...REPORT, 'date-range': {} }),
    JSON.stringify({ ...REPORT, policies: 'x' }),
  ])('refuse %s', (json) => {
    expect(() => readTlsReport(json)).toThrow(/report about encryption/);
  });
  it('take whatever stands in them', () => {
    fc.assert(
      fc.property(fc.jsonValue(), (value) => {
        const found = readTlsReport(
          JSON.stringify({ ...REPORT, policies: [value, { policy: value, summary: value, 'failure-details': [value] }] }),
        );
        for (const { good, failed } of found.domains) expect(good >= 0 && failed >= 0).toBe(true);
      }),
    );
  });
});
