/** What a mailbox thought of a letter: one check of it, and how it ended. */
export type MailVerdict = {
  check: 'SPF' | 'DKIM' | 'DMARC' | 'Alignment' | 'Encryption' | 'Reverse name';
  result: string;
  good: boolean;
  detail: string;
};

/**
 * Reads an Authentication-Results field (RFC 8601): the results of spf, dkim, dmarc and iprev with their properties. Comments are dropped.
 * Unknown methods are passed over. Never throws; the result may be empty.
 */
export function readAuthenticationResults(
  value: string,
): { method: string; result: string; properties: Record<string, string> }[] {
  const plain = value.replace(/\r?\n[ \t]+/g, ' ').replace(/\([^()]*\)/g, ' ');
  return plain
    .split(';')
    .slice(1)
    .map((part) => {
      const words = part.trim().split(/\s+/);
      const [method = '', result = ''] = (words[0] ?? '').split('=');
      const properties = Object.fromEntries(
        words
          .slice(1)
          .map((word) => word.split('='))
          .filter((pair) => pair.length >= 2)
          .map(([name, ...rest]) => [name!.toLowerCase(), rest.join('=').replace(/^"|"$/g, '')]),
      );
      return { method: method.toLowerCase().replace(/\/.*$/, ''), result: result.toLowerCase(), properties };
    })
    .filter(({ method, result }) => method !== '' && result !== '');
}

/** The verdicts a writer is shown, from the fields a receiving mailbox wrote at the head of the letter (RFC 8601, RFC 3848). */
export function verdictsOf(fields: { authenticationResults: string; received: string; fromDomain: string }): MailVerdict[] {
  const all = readAuthenticationResults(fields.authenticationResults);
  const first = (method: string) =>
    all.find((entry) => entry.method === method && entry.result === 'pass') ?? all.find((entry) => entry.method === method);
  const verdict = (check: MailVerdict['check'], method: string, property: string, none: string): MailVerdict => {
    const found = first(method);
    return {
      check,
      result: found?.result ?? 'none',
      good: found?.result === 'pass',
      detail: found?.properties[property] ?? none,
    };
  };
  const spf = verdict('SPF', 'spf', 'smtp.mailfrom', 'no result');
  const dkim = verdict('DKIM', 'dkim', 'header.d', '');
  // Some receivers write the signing identity (header.i) instead of the domain.
  dkim.detail ||= (first('dkim')?.properties['header.i'] ?? '').replace(/^.*@/, '') || 'no signature';
  const dmarc = verdict('DMARC', 'dmarc', 'header.from', 'no policy');
  const below = (domain: string) =>
    domain === fields.fromDomain || domain.endsWith(`.${fields.fromDomain}`) || fields.fromDomain.endsWith(`.${domain}`);
  const matching = [
    dkim.good && below(dkim.detail) ? 'the signature' : '',
    spf.good && below(spf.detail.split('@').at(-1) ?? '') ? 'the return path' : '',
  ].filter(Boolean);
  const encrypted = /\bwith\s+(UTF8)?E?SMTPSA?\b/i.test(fields.received) && !/\bwith\s+ESMTP\b/i.test(fields.received);
  return [
    spf,
    dkim,
    dmarc,
    {
      check: 'Alignment',
      result: matching.length ? 'pass' : 'fail',
      good: matching.length > 0,
      detail: matching.length
        ? `${matching.join(' and ')} belong${matching.length === 1 ? 's' : ''} to ${fields.fromDomain}`
        : `neither signature nor return path belongs to ${fields.fromDomain}`,
    },
    {
      check: 'Encryption',
      result: encrypted ? 'pass' : 'none',
      good: encrypted,
      detail: encrypted ? 'encrypted on the way (TLS)' : 'not encrypted on the way',
    },
    verdict('Reverse name', 'iprev', 'policy.iprev', 'no result'),
  ];
}
