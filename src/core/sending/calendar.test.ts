import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { type CalendarEntry, calendarOf } from './calendar';

const now = new Date('2026-11-24T09:00:00Z');
const entry: CalendarEntry = {
  id: '01a20cc8-cb14-76f7-b6ab-be329f810d6e',
  at: new Date('2026-11-26T08:00:00Z'),
  title: 'Krill; lamps, and “light”',
  words: 'To 2,104 people.\nFrom Ottoline Vance.',
  url: 'https://inkset.example/desk/lanternfish-letters/letters/01a20cc8',
  certain: true,
};
/** As a program reads it: lines put together again, text without its escapes. */
const read = (calendar: string) =>
  calendar
    .replace(/\r\n /g, '')
    .split('\r\n')
    .map((line) => line.replace(/\\([\\;,n])/g, (_, one) => (one === 'n' ? '\n' : one)));

describe('the runway as a calendar', () => {
  it('has each letter as an event, escaped as RFC 5545 has it', () => {
    const calendar = calendarOf('Lanternfish Letters', [entry, { ...entry, id: 'other', certain: false }], now);
    expect(calendar).toContain('SUMMARY:Krill\\; lamps\\, and “light”\r\n');
    expect(calendar).toContain('DTSTART:20261126T080000Z\r\nDURATION:PT15M\r\n');
    expect(calendar).toContain('DESCRIPTION:To 2\\,104 people.\\nFrom Ottoline Vance.\r\n');
    expect(calendar.match(/STATUS:\w+/g)).toEqual(['STATUS:CONFIRMED', 'STATUS:TENTATIVE']);
    expect(calendar.startsWith('BEGIN:VCALENDAR\r\nVERSION:2.0\r\n')).toBe(true);
    expect(calendar.endsWith('END:VEVENT\r\nEND:VCALENDAR\r\n')).toBe(true);
  });
  it('is whole lines of at most 75 octets whatever a letter is called, and nobody writes an event of their own into it', () => {
    fc.assert(
      fc.property(fc.string({ unit: 'grapheme', maxLength: 300 }), fc.string({ maxLength: 80 }), (title, name) => {
        const calendar = calendarOf(name, [{ ...entry, title }], now);
        for (const line of calendar.split('\r\n')) expect(Buffer.byteLength(line)).toBeLessThanOrEqual(75);
        const lines = calendar.replace(/\r\n /g, '').split('\r\n');
        expect(lines.filter((line) => line === 'BEGIN:VEVENT')).toHaveLength(1);
        expect(lines.every((line) => line === '' || /^[A-Z-]+(;[A-Z=-]+)?:/.test(line))).toBe(true);
        const plain = title.replace(/\r\n?/g, '\n').replace(/[\u0000-\u0009\u000b-\u001f\u007f]/g, ' ');
        expect(read(calendar)).toContain(`SUMMARY:${plain}`);
      }),
    );
  });
});
