/** A letter on the runway, or one that left lately. */
export type CalendarEntry = { id: string; at: Date; title: string; words: string; url: string; certain: boolean };

const CRLF = '\r\n';
const stamp = (at: Date) => at.toISOString().replace(/[-:]|\.\d{3}/g, '');
/** TEXT of RFC 5545 3.3.11; control characters have no place in it. */
const text = (value: string) =>
  value
    .replace(/\r\n?/g, '\n')
    .replace(/[\u0000-\u0009\u000b-\u001f\u007f]/g, ' ')
    .replace(/[\\;,]/g, '\\$&')
    .replace(/\n/g, '\\n');

/** Folds a line so that none is longer than 75 octets, and no character is broken (RFC 5545 3.1). */
function folded(line: string): string {
  const out: string[] = [];
  let part = '';
  let octets = 0;
  for (const character of line) {
    const size = Buffer.byteLength(character);
    // A line that goes on begins with a space, which counts.
    if (octets + size > 75) {
      out.push(part);
      part = ' ';
      octets = 1;
    }
    part += character;
    octets += size;
  }
  return [...out, part].join(CRLF);
}

/**
 * A newsletter's runway as a calendar (RFC 5545, with the name and the rhythm of RFC 7986): each letter an event of a quarter of an hour, the same one
 * whenever it is asked for, so that a letter that is moved moves. What is held or paused is tentative.
 */
export function calendarOf(name: string, entries: readonly CalendarEntry[], now: Date): string {
  const lines = [
    'BEGIN:VCALENDAR',
    'VERSION:2.0',
    'PRODID:-//Inkset//Runway//EN',
    'CALSCALE:GREGORIAN',
    `NAME:${text(name)}`,
    'REFRESH-INTERVAL;VALUE=DURATION:PT1H',
    ...entries.flatMap((entry) => [
      'BEGIN:VEVENT',
      `UID:${entry.id}@letters.inkset`,
      `DTSTAMP:${stamp(now)}`,
      `DTSTART:${stamp(entry.at)}`,
      'DURATION:PT15M',
      `SUMMARY:${text(entry.title)}`,
      `DESCRIPTION:${text(entry.words)}`,
      `URL:${entry.url}`,
      `STATUS:${entry.certain ? 'CONFIRMED' : 'TENTATIVE'}`,
      'TRANSP:TRANSPARENT',
      'END:VEVENT',
    ]),
    'END:VCALENDAR',
  ];
  return lines.map(folded).join(CRLF) + CRLF;
}
