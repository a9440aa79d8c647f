import { COMPLAINTS } from './standing';
import type { MailVerdict } from './verdicts';

/** What large mailbox providers ask of whoever sends many letters, each kept, broken or not known, with its proof. */
export type BulkRule = { name: string; state: 'kept' | 'broken' | 'unknown'; proof: string };

export type RuleFacts = {
  domain: string;
  /** The domain's needed records stand. */
  proven: boolean;
  /** Its DMARC policy as found; null where there is none, or nobody has looked. */
  policy: string | null;
  /** What a test mailbox thought of a letter, and when. */
  verdicts: MailVerdict[] | null;
  /** Which of its records stand. */
  records: { spf: boolean; dkim: boolean };
  /** Its own mail of the last weeks, as providers reported it. */
  reported: { mails: number; aligned: number };
  /** Letters leave through somebody else's service. */
  relay: boolean;
  complaints: { complained: number; delivered: number };
  /** Its address is at a provider of free mailboxes. */
  freeMail: boolean;
};

const ENOUGH = 500;

/** The rules in the order in which they are met: who one is, how the mail is brought, what readers can do, what they say. */
export function bulkRules(facts: RuleFacts): BulkRule[] {
  const { reported } = facts;
  const believed = reported.mails > 0 && reported.aligned / reported.mails > 0.98;
  const figure = new Intl.NumberFormat('en-GB');
  const verdict = (check: MailVerdict['check'], name: string, broken: string, otherwise = ''): BulkRule => {
    const found = facts.verdicts?.find((one) => one.check === check);
    if (!found)
      return otherwise
        ? { name, state: 'kept', proof: otherwise }
        : { name, state: 'unknown', proof: 'A test letter finds out: send one on the domain’s page.' };
    return found.good
      ? { name, state: 'kept', proof: `The last test letter: ${found.detail || found.result}.` }
      : { name, state: 'broken', proof: broken };
  };
  const { complained, delivered } = facts.complaints;
  const rate = delivered ? complained / delivered : 0;
  const said = `${(100 * rate).toFixed(2)}% of ${figure.format(delivered)} copies`;
  return [
    facts.freeMail
      ? {
          name: 'A domain of your own',
          state: 'broken',
          proof: `${facts.domain} is a provider’s: it turns away letters in its name from elsewhere.`,
        }
      : { name: 'A domain of your own', state: 'kept', proof: `Letters come from ${facts.domain}.` },
    verdict(
      'SPF',
      'SPF holds',
      'The last test letter’s return path was not believed.',
      facts.records.spf ? 'Its record stands at your name servers.' : '',
    ),
    verdict(
      'DKIM',
      'Every letter is signed (DKIM)',
      'The last test letter’s signature did not hold.',
      facts.records.dkim ? 'Its key stands at your name servers.' : '',
    ),
    facts.policy
      ? { name: 'The domain has a policy (DMARC)', state: 'kept', proof: `It asks for “${facts.policy}”.` }
      : {
          name: 'The domain has a policy (DMARC)',
          state: facts.proven ? 'broken' : 'unknown',
          proof: 'No policy was found. The domain’s page has the record.',
        },
    verdict(
      'Alignment',
      'Signature or return path belong to the from-address',
      'Neither belonged to it in the last test letter.',
      believed ? `Providers reported ${figure.format(reported.aligned)} of ${figure.format(reported.mails)} as yours.` : '',
    ),
    verdict('Encryption', 'Letters come encrypted (TLS)', 'The last test letter came in the clear.'),
    verdict(
      'Reverse name',
      'The sending address has a name that leads back to it',
      facts.relay
        ? 'Your SMTP service’s address has none that does: tell them.'
        : 'It has none. Whoever runs this installation sets it at their network.',
    ),
    {
      name: 'Leaving takes one click',
      state: 'kept',
      proof: 'Every letter carries it in its head (RFC 8058) and in its foot; it holds at once.',
    },
    delivered < ENOUGH
      ? { name: 'Few readers complain', state: 'unknown', proof: `Fewer than ${ENOUGH} copies were delivered in these days.` }
      : rate >= COMPLAINTS.mend
        ? { name: 'Few readers complain', state: 'broken', proof: `${said}; the line is 0.3%.` }
        : { name: 'Few readers complain', state: 'kept', proof: `${said}; the line is 0.3%, and below 0.1% is where to stay.` },
  ];
}
