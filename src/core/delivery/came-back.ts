/*
 * What is this message that came to an address of ours? A notice of a server, a complaint, the note of somebody who is away, a question whether we are human, a
 * receipt, or the words of a person. Told from what it says of itself, never from who it says it is from alone.
 */

/** A message taken apart: its head with small names, each with its first value, and its leaves. */
export type Message = {
  /** Whoever it came from on the way (SMTP); empty for a notice. */
  envelopeFrom: string;
  from: string;
  subject: string;
  headers: ReadonlyMap<string, string>;
  /** Its leaves, in order: the type without parameters, in small letters, and what it says. */
  parts: readonly { type: string; text: string }[];
  /** What a person reads of it. */
  text: string;
};

export type Sort =
  | 'status' /** A notice with a machine part: failures, delays, deliveries. */
  | 'failure in words' /** A notice of a failure for people alone. */
  | 'feedback' /** A report of RFC 5965. */
  | 'away' /** Somebody's program says that they are not there. */
  | 'challenge' /** A program asks whether we are human. */
  | 'receipt' /** It was opened, or thrown away (RFC 8098). */
  | 'program' /** Something else that a program wrote. */
  | 'person';

export const partOf = (message: Message, ...types: string[]): string | null =>
  message.parts.find((part) => types.includes(part.type))?.text ?? null;

const STATUS = ['message/delivery-status', 'message/global-delivery-status'];
const looksLikeStatus = (text: string) =>
  /^(?:final|original)-recipient:/im.test(text) && (/^action:/im.test(text) || /^status:/im.test(text));

/** The machine part of a notice, whatever type its part claims to have; null where there is none. */
export function deliveryStatusOf(message: Message): string | null {
  const typed = message.parts.find((part) => STATUS.includes(part.type) && looksLikeStatus(part.text));
  if (typed) return typed.text;
  // Under a wrong type, or as text: but never what stands in our own letter, which comes back last.
  const wrong = message.parts.find(
    (part) =>
      !/^(?:message\/rfc822|text\/rfc822-headers|message\/global(?:-headers)?|text\/html)$/.test(part.type) &&
      looksLikeStatus(part.text),
  );
  return wrong?.text ?? null;
}

/** The machine part of a complaint (RFC 5965). */
export const feedbackOf = (message: Message): string | null =>
  message.parts.find(
    (part) =>
      part.type === 'message/feedback-report' ||
      (/^(?:text\/plain|application\/octet-stream)$/.test(part.type) &&
        /^feedback-type:/im.test(part.text) &&
        /^user-agent:/im.test(part.text)),
  )?.text ?? null;

const DAEMON = /\b(?:mailer-?daemon|mail[. ]delivery|postmaster|mailsubsystem|mail-daemon|bounce)\b/i;
const FAILURE_SUBJECT =
  /undeliver|delivery (?:status|failure|failed|has failed|incomplete|problem)|returned mail|failure notice|could not (?:send|be delivered)|mail delivery|unzustellbar|non remis|échec|no se (?:ha podido|pudo)|rejected|mancata consegna|onbestelbaar/i;
const AWAY_SUBJECT =
  /^(?:re: ?)?(?:out of (?:the )?office|automatic reply|auto(?:matic)?[- ]?(?:reply|response|antwort)|autoreply|abwesen|automatische antwort|réponse automatique|absence|absent|vacation|on (?:vacation|leave|holiday)|away|respuesta automática|fuera de (?:la )?oficina|risposta automatica|automatisch antwoord|i am away)/i;
const CHALLENGE =
  /(?:confirm|prove|verify)\b[^.]{0,60}\b(?:you (?:are|'re|’re) (?:a )?(?:human|real person|not a (?:robot|machine))|that you sent|your (?:message|address|identity) (?:so|before|in order))|sender (?:confirmation|verification) (?:required|needed)|(?:to|and) (?:have|get) your (?:message|mail) (?:delivered|released)[^.]{0,80}(?:click|reply)|approved senders? list|challenge.response/i;
const NO_REPLY = /^(?:no-?reply|do-?not-?reply|noreply|notifications?|mailer-daemon|postmaster|bounces?)\b/i;

/** What a message is. Whatever a program wrote is never taken for a person's (RFC 3834), and a person's words never for a notice. */
export function sortOf(message: Message): Sort {
  const head = (name: string) => message.headers.get(name) ?? '';
  const type = head('content-type').toLowerCase();
  if (feedbackOf(message) !== null || /report-type="?feedback-report/.test(type)) return 'feedback';
  if (
    partOf(message, 'message/disposition-notification', 'message/global-disposition-notification') !== null ||
    /report-type="?disposition-notification/.test(type)
  )
    return 'receipt';
  const daemon = message.envelopeFrom === '' || DAEMON.test(message.from) || DAEMON.test(message.envelopeFrom);
  if (deliveryStatusOf(message) !== null && (daemon || /multipart\/report/.test(type) || isAutomatic(head))) return 'status';
  const automatic = isAutomatic(head);
  const asks = CHALLENGE.test(message.subject) || CHALLENGE.test(message.text.slice(0, 5_000));
  if (AWAY_SUBJECT.test(message.subject) && (automatic || daemon || !/^re:/i.test(message.subject))) return 'away';
  if (asks && (automatic || daemon)) return 'challenge';
  if (daemon && (FAILURE_SUBJECT.test(message.subject) || /x-failed-recipients/.test([...message.headers.keys()].join())))
    return 'failure in words';
  if (/^auto-replied/i.test(head('auto-submitted').trim())) return 'away';
  // Some failures say it in the letter alone.
  if (
    daemon &&
    /(?:could not|cannot|can't|was not|wasn't|unable to)\b[^.]{0,60}\bdeliver|permanent(?:ly)? (?:fatal )?(?:error|fail)|undeliverable/i.test(
      message.text,
    )
  )
    return 'failure in words';
  if (automatic || daemon || NO_REPLY.test(localOf(message.from)) || type.startsWith('multipart/report')) return 'program';
  return 'person';
}

const localOf = (from: string) => (/<([^<>@]*)@/.exec(from)?.[1] ?? from.split('@')[0] ?? '').trim();

/** Programs say that they are (RFC 3834, and what was usual before it). */
function isAutomatic(head: (name: string) => string): boolean {
  return (
    !/^(?:no)?$/i.test(head('auto-submitted').trim()) ||
    /\b(?:bulk|junk|list|auto_reply)\b/i.test(head('precedence')) ||
    ['x-autoreply', 'x-autorespond', 'x-autorespond-from', 'list-id'].some((name) => head(name) !== '')
  );
}
