import { describe, expect, it } from 'vitest';
import { generate } from './generate';
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
  it('uses invented people on reserved domains only, each address once', () => {
    const addresses = rows.readers.map((row) => row.address as string);
    expect(new Set(addresses).size).toBe(addresses.length);
    for (const address of addresses) expect(address).toMatch(/@(heronmail|postbird|kestrel|fjordbox)\.example$/);
    expect(personOf(0, 0.1).address).not.toBe(personOf(1, 0.1).address);
  });
});
