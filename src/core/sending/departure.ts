import { IANAZone } from 'luxon';
import { counted } from '../growth/figures';
import { isZone } from '../zones';

/** At what pace a letter leaves once its time has come: all at once, at that hour of each reader's own clock, or evenly over some hours. */
export type Pace = { kind: 'at once' } | { kind: 'local hour' } | { kind: 'over hours'; hours: number };

/** When a letter leaves: as soon as it can still be called back no more, or at an hour of a zone's clock (`YYYY-MM-DDTHH:MM`). */
export type Departure = {
  when: 'now' | 'at';
  /** '' where it leaves now. */
  local: string;
  zone: string;
  /** Which of the two is meant, where clocks go back and an hour comes twice. */
  fold: 'first' | 'second';
  pace: Pace;
};

export const MOST_HOURS = 48;

/** How long a letter that was told to leave at once can be called back whole, in seconds. */
export const CALL_BACK = { usual: 30, most: 600 } as const;

/** What an hour of a zone's clock is: one moment; one that clocks skip, and the moment that stands for it; or one that comes twice. */
export type ClockHour = { kind: 'once' | 'skipped'; at: Date } | { kind: 'twice'; at: Date; second: Date };

const MINUTE_MS = 60_000;
const DAY_MS = 86_400_000;

/**
 * Reads an hour of a zone's clock as RFC 5545 has it: one that clocks skip is read with the offset before it, so that it comes as much later as they go forward; of one that
 * comes twice the first is meant. Worked out from the zone's offsets alone, whatever the season in which it is asked. null for what is no time.
 */
export function clockHour(local: string, zone: string): ClockHour | null {
  const wall = /^\d{4}-\d{2}-\d{2}T\d{2}:\d{2}$/.test(local) ? Date.parse(`${local}:00Z`) : Number.NaN;
  // 30 February is no day, and would be read as one of March.
  if (Number.isNaN(wall) || new Date(wall).toISOString().slice(0, 16) !== local || !isZone(zone)) return null;
  const clock = IANAZone.create(zone);
  const offset = (at: number) => Math.round(clock.offset(at)) * MINUTE_MS;
  const [before, after] = [offset(wall - DAY_MS), offset(wall + DAY_MS)];
  const fits = [...new Set([wall - before, wall - after])].filter((at) => offset(at) === wall - at).sort((a, b) => a - b);
  if (fits.length === 0) return { kind: 'skipped', at: new Date(wall - before) };
  const [first, second] = fits as [number, number?];
  return second === undefined
    ? { kind: 'once', at: new Date(first) }
    : { kind: 'twice', at: new Date(first), second: new Date(second) };
}

/** The moment of a departure that has an hour; null for one that is no hour. */
export function momentOfDeparture({ local, zone, fold }: Departure): Date | null {
  const hour = clockHour(local, zone);
  return hour && (hour.kind === 'twice' && fold === 'second' ? hour.second : hour.at);
}

/** When an hour comes in each of these zones; in one that is none it comes when it does in `usual`. */
export function hoursIn(local: string, zones: readonly string[], usual: string): Map<string, Date> {
  const fallback = clockHour(local, usual)!.at;
  return new Map(zones.map((zone) => [zone, clockHour(local, zone)?.at ?? fallback]));
}

/** What is to be said of an hour that is not one like others; '' of one that is. */
export function hourWords(local: string, zone: string): string {
  const hour = clockHour(local, zone);
  const clock = local.slice(11);
  const place = zone.split('/').at(-1)!.replaceAll('_', ' ');
  if (hour?.kind === 'skipped') {
    const later = new Date(hour.at.getTime() + IANAZone.create(zone).offset(hour.at.getTime()) * MINUTE_MS);
    return `Clocks in ${place} go forward over ${clock} on that day: it would leave when they show ${later.toISOString().slice(11, 16)}.`;
  }
  return hour?.kind === 'twice' ? `Clocks in ${place} go back on that day, and ${clock} comes twice.` : '';
}

/** A pace in words that go on from "It leaves …". */
export function paceWords(pace: Pace): string {
  if (pace.kind === 'local hour') return 'at that hour of each reader’s own clock';
  return pace.kind === 'over hours' ? `evenly over ${counted(pace.hours, 'hour', 'hours')}` : 'all at once';
}
