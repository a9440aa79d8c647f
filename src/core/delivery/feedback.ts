/** What a report says that a reader or a provider thinks of a letter. */
export type FeedbackKind = 'complaint' | 'not spam' | 'opt-out' | 'not authenticated' | 'other';

/** A report about one of our letters (RFC 5965, 6430, 6590, 6591). */
export type Feedback = {
  kind: FeedbackKind;
  /** As the report has it: abuse, fraud, virus, not-spam, auth-failure, opt-out … */
  type: string;
  /** The program or provider that reports. */
  reporter: string;
  /** The return path of the letter. */
  mailFrom: string;
  /** Who got it; empty, or made unreadable, where it is hidden (RFC 6590). */
  recipients: string[];
  /** Days and addresses as far as they are said. */
  arrival: Date | null;
  source: string;
  domain: string;
  /** What failed, in a report of RFC 6591: dkim, spf, dmarc, adsp, bodyhash, revoked, signature … */
  failure: string;
  /** How many letters it stands for. */
  incidents: number;
};

const KINDS: Record<string, FeedbackKind> = {
  abuse: 'complaint',
  fraud: 'complaint',
  virus: 'complaint',
  miscategorized: 'complaint',
  other: 'complaint',
  'not-spam': 'not spam',
  'opt-out': 'opt-out',
  'opt-out-list': 'opt-out',
  'auth-failure': 'not authenticated',
  'identity-alignment': 'not authenticated',
};
const MOST_RECIPIENTS = 20;

/**
 * Reads the machine part of a report (message/feedback-report): fields as in a head, folded lines joined, the first of each kept but for recipients. Never throws.
 * A type that nobody has agreed on says nothing ("other").
 */
export function readFeedback(text: string): Feedback {
  const fields = new Map<string, string[]>();
  for (const line of text
    .slice(0, 50_000)
    .replace(/\r\n?/g, '\n')
    .replace(/\n[ \t]+(?=\S)/g, ' ')
    .split('\n')) {
    const colon = line.indexOf(':');
    if (colon <= 0) continue;
    const name = line.slice(0, colon).trim().toLowerCase();
    fields.set(name, [...(fields.get(name) ?? []), line.slice(colon + 1).trim()]);
  }
  const one = (name: string) => fields.get(name)?.[0] ?? '';
  const type = (/^[a-z0-9-]+/.exec(one('feedback-type').toLowerCase())?.[0] ?? '').slice(0, 40);
  const arrived = Date.parse(one('arrival-date') || one('received-date'));
  const incidents = Number.parseInt(one('incidents'), 10);
  return {
    kind: KINDS[type] ?? 'other',
    type,
    reporter: one('user-agent').slice(0, 100),
    mailFrom: bare(one('original-mail-from')),
    recipients: (fields.get('original-rcpt-to') ?? []).slice(0, MOST_RECIPIENTS).map(bare),
    arrival: Number.isNaN(arrived) ? null : new Date(arrived),
    source: one('source-ip').slice(0, 60),
    domain: one('reported-domain').toLowerCase().slice(0, 253),
    failure: one('auth-failure').toLowerCase().slice(0, 40),
    incidents: Number.isSafeInteger(incidents) && incidents > 0 ? Math.min(incidents, 1_000) : 1,
  };
}

const bare = (value: string) => value.replace(/^.*<([^<>]*)>.*$/, '$1').trim();

/** Fields of a head by small names, folded lines joined, the first of each. */
export function readHead(text: string): Map<string, string> {
  const head = new Map<string, string>();
  for (const line of (text.split(/\r?\n\r?\n/)[0] ?? '')
    .slice(0, 100_000)
    .replace(/\r\n?/g, '\n')
    .replace(/\n[ \t]+/g, ' ')
    .split('\n')) {
    const colon = line.indexOf(':');
    if (colon <= 0) continue;
    const name = line.slice(0, colon).trim().toLowerCase();
    if (!head.has(name)) head.set(name, line.slice(colon + 1).trim());
  }
  return head;
}

/** What a report knows a letter by: its return path, its Message-ID and its Feedback-ID, from the report and from the head of the letter that came with it. */
export function traitsOf(
  feedback: Feedback,
  head: ReadonlyMap<string, string>,
): { returnLocals: string[]; messageLocal: string; letter: string } {
  const local = (address: string) => address.slice(0, Math.max(0, address.lastIndexOf('@'))).toLowerCase();
  const back = [feedback.mailFrom, bare(head.get('return-path') ?? ''), bare(head.get('x-original-mail-from') ?? '')];
  return {
    returnLocals: [...new Set(back.map(local).filter((one) => /^[bm]-[a-z2-7]+$/.test(one)))],
    messageLocal: local(bare(head.get('message-id') ?? '')),
    letter: /^([0-9a-f]{8}-[0-9a-f-]{27})\./.exec(head.get('feedback-id') ?? '')?.[1] ?? '',
  };
}
