import { describe, expect, it } from 'vitest';
import { readRange } from '@/core/sending/result';
import { generate, LATELY } from './generate';
import { personOf } from './words';

const IDS = {
  newsletter: 'n',
  lists: ['l1', 'l2'] as [string, string],
  forms: { page: 'f1', article: 'f2', corner: 'f3' },
  sender: 's',
  domain: 'd',
};
const make = () => generate(new Date('2026-11-24T09:00:00Z'), 'Europe/Lisbon', IDS, 'http://blog.test');

describe('the demo newsletter', () => {
  const rows = make();
  it('is the same every time', () => {
    expect(JSON.stringify(make())).toBe(JSON.stringify(rows));
  });
  it('has about 2,400 readers and 40 letters, and its counts agree with its rows', () => {
    const reading = rows.memberships.filter((row) => row.state === 'reading');
    expect(new Set(reading.map((row) => row.reader_id)).size).toBeGreaterThan(2_300);
    expect(new Set(reading.map((row) => row.reader_id)).size).toBeLessThan(2_500);
    const sent = rows.letters.filter((letter) => letter.state === 'sent');
    expect(sent).toHaveLength(40);
    for (const counts of rows.letterCounts.filter((c) => c.recipients)) {
      const own = rows.deliveries.filter((d) => d.letter_id === counts.letter_id);
      expect(own.length).toBe(counts.recipients);
      expect(own.filter((d) => d.state === 'delivered')).toHaveLength(counts.delivered as number);
      expect(own.filter((d) => d.opened_at)).toHaveLength(counts.opened_people as number);
    }
    const joined = rows.dailyCounts.reduce((sum, day) => sum + (day.joined as number), 0);
    expect(joined).toBe(new Set(rows.memberships.filter((m) => m.joined_at).map((m) => m.reader_id)).size);
  });
  it('shows what the public really did: reads within three points, clicks to the last one, and machines that are known as such', () => {
    // Of the latest some are still to be read; of so many copies an estimate is no matter of a few people's luck.
    const reports = rows.letterCounts.filter((counts) => (counts.delivered as number) > 300).slice(0, -1);
    expect(reports.length).toBeGreaterThan(20);
    for (const { letter_id, clicked, ...counts } of reports) {
      const delivered = counts.delivered as number;
      const own = rows.deliveries.filter((row) => row.letter_id === letter_id);
      const hidden = own.filter((row) => row.opened_by_machine_at && !row.opened_at).length;
      const opened = { delivered, people: counts.opened_people as number, machines: counts.opened_machines as number, hidden };
      const { about } = readRange(opened);
      const truth = rows.truth.find((one) => one.letter_id === letter_id)!;
      expect(Math.abs(about - truth.read) / delivered).toBeLessThan(0.03);
      expect(clicked).toBe(truth.clicked);
    }
    const whys = new Set(rows.events.map((event) => event.why));
    expect(whys).toEqual(new Set([null, 'network', 'all links']));
  });
  it('uses invented people on reserved domains only, each address once', () => {
    const addresses = rows.readers.map((row) => row.address as string);
    expect(new Set(addresses).size).toBe(addresses.length);
    for (const address of addresses) expect(address).toMatch(/@(heronmail|postbird|kestrel|fjordbox)\.example$/);
    expect(personOf(0, 0.1).address).not.toBe(personOf(1, 0.1).address);
    // Names from many languages, in addresses that any mail server takes.
    expect(rows.readers.some((row) => /[^ -\u024f]/.test(String(row.first_name)))).toBe(true);
    for (const address of addresses) expect(address).toMatch(/^[a-z0-9.]+@/);
  });

  it('tells stories: sources and forms differ, a guest brought many, a provider refused and was mended, people cool down', () => {
    const confirmed = new Set(rows.memberships.filter((row) => row.joined_at).map((row) => row.reader_id));
    // Whoever never confirmed and is older than a month and a half has gone; the counts of the forms still know them.
    const shareOf = (form: string) => {
      const days = rows.formDays.filter((day) => day.form_id === form);
      const sum = (key: string) => days.reduce((all, day) => all + (day[key] as number), 0);
      return sum('confirmed') / sum('sent_in');
    };
    expect(shareOf('f2') - shareOf('f3')).toBeGreaterThan(0.2);
    const from = (source: string) => rows.readers.filter((row) => row.source_name === source);
    expect(from('tidelines-weekly').length).toBeGreaterThan(150);
    const days = new Map(rows.dailyCounts.map((day) => [day.day, day.joined as number]));
    expect(Math.max(...days.values())).toBeGreaterThan(40);
    const refusedShare = (letters: string[]) => {
      const some = rows.deliveries.filter(
        (row) => row.provider === 'fjordbox.example' && letters.includes(row.letter_id as string),
      );
      return some.filter((row) => row.state === 'refused').length / some.length;
    };
    const letters = rows.letters.filter((row) => row.state === 'sent').map((row) => row.id);
    expect(refusedShare(letters.slice(31, 34))).toBeGreaterThan(0.6);
    expect(refusedShare(letters.slice(34))).toBeLessThan(0.03);
    const readAt = (provider: string, which: string[]) => {
      const some = rows.deliveries.filter((row) => row.provider === provider && which.includes(row.letter_id as string));
      return some.filter((row) => row.opened_at).length / some.length;
    };
    expect(readAt('postbird.example', letters.slice(LATELY))).toBeLessThan(
      0.6 * readAt('postbird.example', letters.slice(28, LATELY)),
    );
    expect(readAt('heronmail.example', letters.slice(LATELY))).toBeGreaterThan(
      0.7 * readAt('heronmail.example', letters.slice(28, LATELY)),
    );
    const early = new Set(rows.readers.filter((row) => String(row.created_at) < '2025-10').map((row) => row.id));
    const opened = (which: string[]) => {
      const some = rows.deliveries.filter((row) => early.has(row.reader_id as string) && which.includes(row.letter_id as string));
      return some.filter((row) => row.opened_at).length / some.length;
    };
    expect(opened(letters.slice(8, 14))).toBeGreaterThan(opened(letters.slice(30, 38)) * 1.15);
    expect(confirmed.size).toBeGreaterThan(2_300);
  });
});
