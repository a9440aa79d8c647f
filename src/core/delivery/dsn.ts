import { type Outcome, readReply } from '../sending/outcome';

export type RecipientReport = {
  recipient: string;
  /** The address as we gave it, where the report says so (RFC 3461). */
  original: string;
  action: 'failed' | 'delayed' | 'delivered' | 'relayed' | 'expanded' | '';
  status: string;
  diagnostic: string;
};

const ACTIONS = ['failed', 'delayed', 'delivered', 'relayed', 'expanded'] as const;

/**
 * Reads the machine part of a delivery status notification (message/delivery-status, RFC 3464, and its global form, RFC 6533): blocks of fields separated by
 * empty lines, the first about the message, each further one about a recipient. Folded lines are joined. As they are found in the world: where the empty lines
 * are missing, another recipient begins with a field that the one before had; where no action is said, it follows from the status; a status may be cut short
 * ("5.1"). Anything unreadable is left out; the result may be empty.
 */
export function readDeliveryStatus(text: string): RecipientReport[] {
  const reports: RecipientReport[] = [];
  let fields = new Map<string, string>();
  const end = () => {
    const report = reportOf(fields);
    if (report) reports.push(report);
    fields = new Map();
  };
  for (const line of text
    .replace(/\r\n?/g, '\n')
    .replace(/\n[ \t]+(?=\S)/g, ' ')
    .split('\n')) {
    if (line.trim() === '') {
      if (fields.has('final-recipient') || fields.has('original-recipient')) end();
      continue;
    }
    const colon = line.indexOf(':');
    if (colon <= 0) continue;
    const name = line.slice(0, colon).trim().toLowerCase();
    // The next one, without a line between.
    if (fields.has(name) && (name === 'final-recipient' || name === 'original-recipient')) end();
    if (!fields.has(name)) fields.set(name, line.slice(colon + 1).trim());
  }
  end();
  return reports;
}

function reportOf(fields: Map<string, string>): RecipientReport | null {
  const recipient = addressIn(fields.get('final-recipient'));
  const original = addressIn(fields.get('original-recipient'));
  if (!recipient && !original) return null;
  const status = statusIn(fields.get('status') ?? '');
  const said = (fields.get('action') ?? '').toLowerCase();
  const action = ACTIONS.find((one) => said.startsWith(one)) ?? (status.startsWith('5') ? 'failed' : '');
  const diagnostic = (fields.get('diagnostic-code') ?? '').replace(/^[^;]{0,40};\s*/, '');
  return { recipient, original, action, status, diagnostic };
}

/** A status as "5.1.1", from "5.1.1 (bad mailbox)", "5.1" or "#5.1.1"; empty where there is none. */
const statusIn = (text: string): string => {
  const found = /([245])\.(\d{1,3})(?:\.(\d{1,3}))?/.exec(text);
  return found ? `${found[1]}.${found[2]}.${found[3] ?? '0'}` : '';
};

/** The address of a typed field: `rfc822; a@b`, `utf-8; ä@b`, with or without angle brackets. */
const addressIn = (value = '') =>
  value
    .replace(/^[^;@]*;\s*/, '')
    .replace(/^.*<([^<>]*)>.*$/, '$1')
    .trim();

const sameAddress = (a: string, b: string) => a.normalize('NFC').toLowerCase() === b.normalize('NFC').toLowerCase();

/** Does a report speak of this address? One that speaks of another says nothing of ours. */
export const namesRecipient = (report: RecipientReport, address: string): boolean =>
  [report.recipient, report.original, unxtext(report.original), unutf8(report.recipient), unutf8(report.original)].some(
    (named) => named !== '' && sameAddress(named, address),
  );

const unxtext = (text: string) =>
  text.replace(/\+([0-9A-Fa-f]{2})/g, (_, hex: string) => String.fromCharCode(Number.parseInt(hex, 16)));
/** utf-8-addr-xtext (RFC 6533 section 3): \x{00E4}. */
const unutf8 = (text: string) =>
  text.replace(/\\x\{([0-9A-Fa-f]{1,6})\}/g, (all, hex: string) => {
    const code = Number.parseInt(hex, 16);
    return code <= 0x10ffff ? String.fromCodePoint(code) : all;
  });

/** What a recipient report means for the delivery; null for reports that change nothing (delivered, relayed, still trying). */
export function bounceOutcome(report: RecipientReport): Outcome | null {
  if (report.action !== 'failed') return null;
  // What the other server said of it stands in the diagnostic, where the program that reports it may have its own frame around it.
  const said = /\b([45]\d\d)[ -](?:#?[45]\.\d|[^\d])/.exec(report.diagnostic);
  const own = /\d\.\d{1,3}\.\d{1,3}/.exec(report.diagnostic)?.[0];
  const code = said ? Number(said[1]) : (own ?? report.status).startsWith('4') ? 450 : 550;
  // A status that says nothing leaves the word to the diagnostic; one that the diagnostic carries too is not said twice.
  const status = own ? '' : `${report.status} `;
  const words = report.diagnostic.replace(/^\d{3}[ -]?/, '');
  return given(readReply(code, `${code} ${status}${words}`, 'RCPT'));
}

/** A final failure is final even where the code is a temporary one: the other side has given up. */
function given(outcome: Outcome): Outcome {
  return outcome.kind === 'later'
    ? { kind: 'refused', response: outcome.response, reason: outcome.reason, evidence: 1 }
    : outcome;
}

/** Lines that begin what came back of our own letter: nothing after them was said by a server. */
const OUR_LETTER =
  /^(?:-{2,}.*(?:original|returned|below|copy|header|message|kopie).*|>.*|return-path:.*|received:.*|(?:.*\b)?(?:below this line is a copy|original message follows|message headers follow).*)$/i;

/**
 * A failure as plain text alone: what was said of this address, by the first line or paragraph that carries a code or says in words that there is no such
 * mailbox. Null where the text does not name the address, or says nothing of the kind.
 */
export function plainFailure(text: string, address: string): Outcome | null {
  const lines = text.slice(0, 20_000).replace(/\r\n?/g, '\n').split('\n');
  const end = lines.findIndex((line) => OUR_LETTER.test(line.trim()));
  const own = lines.slice(0, end === -1 ? undefined : end);
  const at = own.findIndex((line) => line.normalize('NFC').toLowerCase().includes(address.normalize('NFC').toLowerCase()));
  if (at === -1) return null;
  // What is said of it stands after it mostly, and in its own paragraph.
  const after = own.slice(at, at + 12).join(' ');
  const words = (/\S/.test(after) ? after : own.join(' ')).replace(/\s+/g, ' ').slice(0, 600);
  const code = /(?:^|[^\d.])([45]\d\d)[ -]/.exec(words);
  const status = /(?:^|[^\d.])([45]\.\d{1,3}\.\d{1,3})(?!\.?\d)/.exec(words)?.[1];
  const from = code ? words.slice(code.index).replace(/^[^\d]/, '') : (status ? `${status} ` : '') + words;
  const number = code ? Number(code[1]) : status?.startsWith('4') ? 450 : 550;
  const outcome = readReply(number, code ? from : `${number} ${from}`, 'RCPT');
  if (outcome.kind === 'refused' && outcome.reason === 'unknown' && !code && !status) return null;
  return given(outcome);
}
