import { DateTime } from 'luxon';

/** Where a reader stood with whoever had the file. */
export type FileState = 'reading' | 'waiting' | 'left' | 'bounced' | 'complained';

const WORDS: [FileState, string][] = [
  [
    'reading',
    'reading|subscribed|subscriber|active|enabled|confirmed|yes|true|1|ok|valid|opted in|optin|opt-in|aktiv|angemeldet|bestätigt|abonniert|actif|active|abonné|inscrit|confirmé|activo|suscrito|confirmado|attivo|iscritto|confermato|actief|aangemeld|bevestigd|ativo|inscrito|aktiivinen|prenumererar|bekräftad|tilmeldt|bekræftet|aktywny|zapisany|potwierdzony',
  ],
  [
    'waiting',
    'waiting|pending|unconfirmed|not confirmed|unverified|inactive pending|ausstehend|unbestätigt|wartend|en attente|non confirmé|pendiente|sin confirmar|in attesa|non confermato|wachtend|onbevestigd|pendente|não confirmado|väntar|obekräftad|afventer|oczekujący|niepotwierdzony',
  ],
  [
    'left',
    'left|unsubscribed|unsubscribe|opted out|optout|opt-out|inactive|disabled|cancelled|canceled|removed|suppressed|archived|no|false|0|abgemeldet|inaktiv|désabonné|désinscrit|inactif|cancelado|baja|dado de baja|inactivo|disiscritto|inattivo|cancellato|uitgeschreven|afgemeld|inactief|descadastrado|inativo|avprenumererad|avregistrerad|frameldt|afmeldt|wypisany|nieaktywny',
  ],
  [
    'bounced',
    'bounced|bounce|hard bounce|hard_bounced|hard bounced|cleaned|invalid|undeliverable|dead|unzustellbar|rebond|rebotado|rimbalzato|gebounced|devolvido|studsat|afvist|odbity',
  ],
  [
    'complained',
    'complained|complaint|spam|spam complaint|marked as spam|abuse|reported|beschwerde|plainte|queja|denunciado|segnalato|klacht|reclamação|klagat|klaget|skarga',
  ],
];
const STATES = new Map(WORDS.flatMap(([state, words]) => words.split('|').map((word): [string, FileState] => [word, state])));

/** A state by its word in one of several languages; null for a word that is not known. */
export const readState = (text: string): FileState | null =>
  STATES.get(text.trim().toLowerCase().replaceAll('_', ' ')) ?? STATES.get(text.trim().toLowerCase()) ?? null;

/** How days are written where only numbers say so: 3/5 is the third of May or the fifth of March. */
export type DateOrder = 'day first' | 'month first';

const NUMBERS = /^(\d{1,2})([./-])(\d{1,2})\2(\d{4}|\d{2})(?:[,T ]+(\d{1,2}):(\d{2})(?::(\d{2}))?(?:\s*([ap])\.?m\.?)?)?/i;
const NAMED = [
  'd LLLL yyyy',
  'd LLL yyyy',
  'LLLL d, yyyy',
  'LLL d, yyyy',
  'd LLLL yyyy HH:mm',
  'd LLL yyyy HH:mm',
  'LLLL d, yyyy HH:mm',
  'LLL d, yyyy HH:mm',
];
const FIRST_YEAR = 1990;
const LAST_YEAR = 2099;
const USUAL = /^(\d{4})-(\d{2})-(\d{2})(?:[T ]([01]\d|2[0-3]):([0-5]\d)(?::([0-5]\d)(?:\.\d+)?)?(?:Z| UTC|[+-]00:?00)?)?$/;
function usually([, year, month, day, hour = '0', minute = '0', second = '0']: RegExpExecArray): Date | null {
  const at = new Date(Date.UTC(Number(year), Number(month) - 1, Number(day), Number(hour), Number(minute), Number(second)));
  return at.getUTCMonth() === Number(month) - 1 && Number(year) >= FIRST_YEAR && Number(year) <= LAST_YEAR ? at : null;
}

/**
 * A moment in one of the usual forms, as UTC where nothing else is said; null for none, and for years in which nobody sent newsletters. ISO 8601,
 * numbers in either order, named months in English, RFC 5322, Unix time in seconds or milliseconds.
 */
export function readDate(text: string, order: DateOrder): Date | null {
  const said = text.trim();
  if (said === '') return null;
  // By far the most files write it so, and a million of them should not wait for a library that knows everything.
  const usual = USUAL.exec(said);
  if (usual) return usually(usual);
  const at = parse(said, order);
  return at?.isValid && at.year >= FIRST_YEAR && at.year <= LAST_YEAR ? at.toJSDate() : null;
}

function parse(said: string, order: DateOrder): DateTime | null {
  const zone = { zone: 'utc' };
  if (/^\d{10}$/.test(said)) return DateTime.fromSeconds(Number(said), zone);
  if (/^\d{13}$/.test(said)) return DateTime.fromMillis(Number(said), zone);
  if (/^\d{4}-\d{1,2}-\d{1,2}/.test(said)) {
    const iso = DateTime.fromISO(
      said
        .replace(/ UTC$/, 'Z')
        .replace(/^(\S+) (\d)/, '$1T$2')
        .replace(/ ([+-])/, '$1'),
      zone,
    );
    return iso.isValid ? iso : null;
  }
  const slashed = /^(\d{4})[/.](\d{1,2})[/.](\d{1,2})/.exec(said);
  if (slashed) return DateTime.utc(Number(slashed[1]), Number(slashed[2]), Number(slashed[3]));
  const numbers = NUMBERS.exec(said);
  if (numbers) {
    const [, a, , b, y, hour = '0', minute = '0', second = '0', half] = numbers;
    const [day, month] = order === 'day first' ? [a, b] : [b, a];
    const year = y!.length === 2 ? 2000 + Number(y) : Number(y);
    const hours = (Number(hour) % (half ? 12 : 24)) + (half?.toLowerCase() === 'p' ? 12 : 0);
    return DateTime.utc(year, Number(month), Number(day), hours, Number(minute), Number(second));
  }
  if (!/[a-z]/i.test(said)) return null;
  for (const form of NAMED) {
    const at = DateTime.fromFormat(said.replace(/(\d)(st|nd|rd|th)\b/, '$1'), form, { ...zone, locale: 'en' });
    if (at.isValid) return at;
  }
  const mail = DateTime.fromRFC2822(said, zone);
  return mail.isValid ? mail : null;
}

/** What order days have that are written as numbers: told by a number over twelve, else not known; null where there are none of them. */
export function orderOf(texts: Iterable<string>): DateOrder | 'unclear' | null {
  let [first, second, any] = [false, false, false];
  for (const text of texts) {
    const numbers = NUMBERS.exec(text.trim());
    if (!numbers) continue;
    any = true;
    if (Number(numbers[1]) > 12) first = true;
    if (Number(numbers[3]) > 12) second = true;
  }
  if (!any) return null;
  if (first === second) return 'unclear';
  return first ? 'day first' : 'month first';
}
