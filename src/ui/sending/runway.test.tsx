import { renderToStaticMarkup } from 'react-dom/server';
import { describe, expect, it } from 'vitest';
import { type Departure, Runway } from './runway';

const NOW = new Date('2026-11-24T09:00:00Z');
const DAY = 86_400_000;
const departure = (id: string, at: number, more: Partial<Departure> = {}): Departure => ({
  id,
  at: new Date(NOW.getTime() + at),
  time: 'Thu 08:30',
  title: `Letter ${id}`,
  detail: 'to everyone',
  href: `/letters/${id}`,
  held: false,
  ...more,
});
/** Where each card stands: its column and row. */
function places(departures: Departure[], zone = 'Europe/Lisbon') {
  const html = renderToStaticMarkup(<Runway departures={departures} now={NOW} zone={zone} />);
  const cards = [
    ...html.matchAll(
      /style="grid-column:(\d+);grid-row:(\d+)"[^>]*href="\/letters\/(\w+)"|href="\/letters\/(\w+)"[^>]*style="grid-column:(\d+);grid-row:(\d+)"/g,
    ),
  ];
  return Object.fromEntries(cards.map((m) => [m[3] ?? m[4], [Number(m[1] ?? m[5]), Number(m[2] ?? m[6])]]));
}

describe('the runway', () => {
  it('puts each letter into the column of its own day, below others of that day alone', () => {
    expect(places([departure('a', 0), departure('b', 2 * DAY), departure('c', 2 * DAY + 1), departure('d', 3 * DAY)])).toEqual({
      a: [1, 1],
      b: [3, 1],
      c: [3, 2],
      d: [4, 1],
    });
  });
  it('keeps what is overdue on today, and what lies beyond its days off', () => {
    expect(places([departure('late', -9 * DAY), departure('last', 13 * DAY), departure('beyond', 14 * DAY)])).toEqual({
      late: [1, 1],
      last: [14, 1],
    });
  });
  it('counts days where the newsletter is', () => {
    // Half past nine in the evening in Lisbon is the next morning in Auckland.
    const late = departure('x', 12.5 * 3_600_000);
    expect(places([late])).toEqual({ x: [1, 1] });
    expect(places([late], 'Pacific/Auckland')).toEqual({ x: [2, 1] });
  });
  it('tells of two within a day', () => {
    const html = (near: boolean) =>
      renderToStaticMarkup(<Runway departures={[departure('a', 0, { near })]} now={NOW} zone="Europe/Lisbon" />);
    expect(html(true)).toContain('two within a day');
    expect(html(false)).not.toContain('within a day');
  });
  it('says so when there is nothing', () => {
    expect(renderToStaticMarkup(<Runway departures={[]} now={NOW} zone="Europe/Lisbon" />)).toContain('Nothing is scheduled');
  });
});
