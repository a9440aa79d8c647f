import clsx from 'clsx';
import Link from 'next/link';
import { localDay, nextDays } from '@/core/growth/days';
import { figure } from '@/core/growth/figures';
import { shortDay } from '@/core/growth/times';

export type Departure = {
  id: string;
  at: Date;
  time: string;
  title: string;
  detail: string;
  href: string;
  held: boolean;
  near?: boolean;
};

const DAYS = 14;
const COLUMNS = { display: 'grid', gridTemplateColumns: `repeat(${DAYS}, minmax(0, 1fr))` };
const isWeekend = (day: string) => [0, 6].includes(new Date(`${day}T00:00:00Z`).getUTCDay());

/** The next fourteen days as columns, with what leaves when. On narrow screens it is a list of the days that have something. */
export function Runway({
  departures,
  ceilings = [],
  now,
  zone,
}: {
  departures: Departure[];
  /** The most that may leave on a day, while a domain is ramped up. */
  ceilings?: { day: string; ceiling: number }[];
  now: Date;
  zone: string;
}) {
  const days = nextDays(now, zone, DAYS);
  const most = new Map(ceilings.map(({ day, ceiling }) => [day, ceiling]));
  // What is overdue stands on today; what is further away has no column yet.
  const placed = departures
    .map((d) => ({ ...d, column: d.at < now ? 0 : days.indexOf(localDay(d.at, zone)) }))
    .filter(({ column }) => column >= 0);
  return (
    <>
      <div className="relative mt-2.5 hidden overflow-hidden rounded-lg border bg-sheet md:block">
        <div aria-hidden className="absolute inset-0" style={COLUMNS}>
          {days.map((day, n) => (
            <div
              key={day}
              className={clsx(
                'border-r border-rule-2 px-1.5 pt-1.5 text-[12px] whitespace-nowrap last:border-r-0',
                n === 0
                  ? 'bg-verdigris-tint font-bold text-verdigris-ink'
                  : isWeekend(day)
                    ? 'bg-paper text-ink-2'
                    : 'text-ink-2',
              )}
            >
              {shortDay(day)}
              {most.has(day) && (
                <span className="figures absolute bottom-1 block text-[12px] font-normal text-ink-2">
                  ≤ {figure(most.get(day) ?? 0)}
                </span>
              )}
            </div>
          ))}
        </div>
        <div className="relative min-h-[128px] content-start pt-8" style={COLUMNS}>
          {placed.map((d, n) => (
            <Link
              key={d.id}
              href={d.href}
              className={clsx(
                'mx-0.5 mb-1.5 overflow-hidden rounded-sm border border-t-[3px] bg-sheet px-1.5 py-1 hover:border-ink-3',
                d.held ? 'border-t-stamp' : 'border-t-verdigris',
              )}
              style={{ gridColumn: d.column + 1, gridRow: rowOf(placed, n) }}
              title={`${d.title}, ${d.detail}${d.near ? ', and another within a day to the same list' : ''}`}
            >
              <span className="block text-[12px] leading-4 text-ink-2">{/\d{1,2}:\d{2}$/.exec(d.time)?.[0] ?? d.time}</span>
              <span className="line-clamp-5 text-[12.5px] leading-4 font-semibold break-words hyphens-auto">{d.title}</span>
              <span className="block text-[12px] leading-4 text-ink-2">{d.detail}</span>
              {d.near && <span className="block text-[12px] leading-4 text-ochre">two within a day</span>}
            </Link>
          ))}
        </div>
        {placed.length === 0 && <p className="absolute inset-x-0 top-14 text-center text-ink-2">Nothing is scheduled.</p>}
      </div>
      <ul className="md:hidden">
        {placed.length === 0 && <li className="py-3 text-ink-2">Nothing is scheduled in the next 14 days.</li>}
        {placed.map((d) => (
          <li key={d.id} className="border-b border-rule-2 py-2.5">
            <Link href={d.href} className="block">
              <span className="text-small text-ink-2">
                {shortDay(days[d.column] ?? '')}, {/\d{1,2}:\d{2}$/.exec(d.time)?.[0] ?? d.time}
              </span>
              <b className="block">{d.title}</b>
              <span className="text-small text-ink-2">{d.detail}</span>
              {d.near && <span className="block text-small text-ochre">two within a day</span>}
            </Link>
          </li>
        ))}
      </ul>
    </>
  );
}

/** Below the earlier cards of its day. */
function rowOf(all: { column: number }[], n: number): number {
  const column = all[n]?.column ?? 0;
  return 1 + all.slice(0, n).filter((other) => other.column === column).length;
}
