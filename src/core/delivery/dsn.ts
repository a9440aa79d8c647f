import { type Outcome, readReply } from '../sending/outcome';

export type RecipientReport = {
  recipient: string;
  /** The address as we gave it, where the report says so (RFC 3461). */
  original: string;
  action: string;
  status: string;
  diagnostic: string;
};

/**
 * Reads the machine part of a delivery status notification (message/delivery-status, RFC 3464, and its global form, RFC 6533): blocks of fields separated by
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
      recipient: addressIn(fields.get('final-recipient')),
      original: addressIn(fields.get('original-recipient')),
      action: (fields.get('action') ?? '').toLowerCase().split(/[\s(]/)[0] ?? '',
      status: /\d\.\d{1,3}\.\d{1,3}/.exec(fields.get('status') ?? '')?.[0] ?? '',
      diagnostic: (fields.get('diagnostic-code') ?? '').replace(/^[^;]*;\s*/, ''),
    }));
}

/** The address of a typed field: `rfc822; a@b`, `utf-8; ä@b`, with or without angle brackets. */
const addressIn = (value = '') =>
  value
    .replace(/^[^;]*;\s*/, '')
    .replace(/^<|>$/g, '')
    .trim();

const sameAddress = (a: string, b: string) => a.normalize('NFC').toLowerCase() === b.normalize('NFC').toLowerCase();

/** Does a report speak of this address? One that speaks of another says nothing of ours. */
export const namesRecipient = (report: RecipientReport, address: string): boolean =>
  [report.recipient, report.original, unxtext(report.original)].some((named) => sameAddress(named, address));

const unxtext = (text: string) =>
  text.replace(/\+([0-9A-Fa-f]{2})/g, (_, hex: string) => String.fromCharCode(Number.parseInt(hex, 16)));

/** What a recipient report means for the delivery; null for reports that change nothing (delivered, relayed, still trying). */
export function bounceOutcome(report: RecipientReport): Outcome | null {
  if (report.action !== 'failed') return null;
  const code = Number(/^\d{3}/.exec(report.diagnostic)?.[0] ?? (report.status.startsWith('4') ? 450 : 550));
  // A status that says nothing leaves the word to the diagnostic; one that the diagnostic carries too is not said twice.
  const own = /\d\.\d{1,3}\.\d{1,3}/.exec(report.diagnostic)?.[0];
  const status = own ? '' : `${report.status} `;
  const outcome = readReply(code, `${code} ${status}${report.diagnostic.replace(/^\d{3}[ -]?/, '')}`, 'RCPT');
  // A final failure is final even where the code is a temporary one: the other side has given up.
  return outcome.kind === 'later' ? { kind: 'refused', response: outcome.response, evidence: 1 } : outcome;
}
