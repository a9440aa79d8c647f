import { type Outcome, readReply } from '../sending/outcome';

export type RecipientReport = { recipient: string; action: string; status: string; diagnostic: string };

/**
 * Reads the machine part of a delivery status notification (message/delivery-status, RFC 3464): blocks of fields separated by
 * empty lines, the first about the message, each further one about a recipient. Folded lines are joined. Anything unreadable
 * is left out; the result may be empty.
 */
export function readDeliveryStatus(text: string): RecipientReport[] {
  return text
    .replace(/\r\n/g, '\n')
    .replace(/\n[ \t]+/g, ' ')
    .split(/\n{2,}/)
    .map((block) => {
      const fields = new Map<string, string>();
      for (const line of block.split('\n')) {
        const colon = line.indexOf(':');
        if (colon > 0) fields.set(line.slice(0, colon).trim().toLowerCase(), line.slice(colon + 1).trim());
      }
      return fields;
    })
    .filter((fields) => fields.has('final-recipient') && fields.has('action'))
    .map((fields) => ({
      recipient: (fields.get('final-recipient') ?? '').replace(/^[^;]*;\s*/, ''),
      action: (fields.get('action') ?? '').toLowerCase().split(/[\s(]/)[0] ?? '',
      status: /\d\.\d{1,3}\.\d{1,3}/.exec(fields.get('status') ?? '')?.[0] ?? '',
      diagnostic: (fields.get('diagnostic-code') ?? '').replace(/^[^;]*;\s*/, ''),
    }));
}

/** What a recipient report means for the delivery; null for reports that change nothing (delivered, relayed, still trying). */
export function bounceOutcome(report: RecipientReport): Outcome | null {
  if (report.action !== 'failed') return null;
  const code = Number(/^\d{3}/.exec(report.diagnostic)?.[0] ?? (report.status.startsWith('4') ? 450 : 550));
  const outcome = readReply(code, `${code} ${report.status} ${report.diagnostic.replace(/^\d{3}[ -]?/, '')}`, 'RCPT');
  // A final failure is final even where the code is a temporary one: the other side has given up.
  return outcome.kind === 'later' ? { kind: 'refused', response: outcome.response } : outcome;
}
