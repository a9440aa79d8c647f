/** What is known of a way out for mail: how many connections it takes, and whether it works at all. Shared by all workers. */
export type Way = {
  /** How many connections it may have; only whole ones count, the fraction gathers until there is one more. */
  lanes: number;
  /** Where it was refused more; probed again slowly. */
  lanesMost: number | null;
  /** Rounds of tries (as many as it has lanes) that met nothing but failures. */
  failedRounds: number;
  failingSince: Date | null;
  pausedUntil: Date | null;
  pausedFor: string | null;
  /** How many mails it takes on one connection; only whole ones count, and it is probed again slowly too. */
  mailsALine: number | null;
  /** Its pace where it asked for one. */
  perMinute: number | null;
};

export const MOST_LANES = 20;
const LEAST_PAUSE_MS = 60_000;
export const LONGEST_PAUSE_MS = 30 * 60_000;
/** Pauses of a way double from one failed round to the next: 1, 2, 4 ... minutes, at most 30. */
const pauseAfter = (rounds: number) => Math.min(LONGEST_PAUSE_MS, LEAST_PAUSE_MS * 2 ** Math.min(20, Math.max(0, rounds - 1)));
/** So many good mails let a limit that was met before rise by one. */
const PROBE_AFTER = 400;
const MOST_A_LINE = 10_000;

/** After `mails` that met no failure of the way: each adds 1/N of a lane, so that a full round opens one more; a failing way is well again. */
export function afterGood(way: Way, mails: number): Way {
  if (mails <= 0) return way;
  const lanesMost = way.lanesMost === null ? null : Math.min(MOST_LANES, way.lanesMost + mails / PROBE_AFTER);
  const most = lanesMost === null ? MOST_LANES : Math.min(MOST_LANES, Math.floor(lanesMost));
  const lanes = Math.max(1, Math.min(most, way.lanes + mails / Math.max(1, way.lanes)));
  // A connection that was cut short once at one mail is no limit for ever.
  const mailsALine = way.mailsALine === null ? null : Math.min(MOST_A_LINE, way.mailsALine + mails / PROBE_AFTER);
  const failing = way.failedRounds > 0 || way.failingSince !== null;
  if (!failing && lanes === way.lanes && lanesMost === way.lanesMost && mailsALine === way.mailsALine) return way;
  // A rest that was asked for is kept; one for failures ends with the first mail that goes.
  const rest = failing ? { pausedUntil: null, pausedFor: null } : {};
  return { ...way, lanes, lanesMost, mailsALine, failedRounds: 0, failingSince: null, ...rest };
}

/**
 * After a try that could not connect, greet, encrypt, or was broken off. The first of a run takes 1/N of a lane; each is a part of a round, and
 * with every round that is full the way is left alone for longer, then tried again with one lane. Says nothing of any mailbox.
 */
export function afterFailure(way: Way, reason: string, now: Date): Way {
  // What was on its way when it was laid to rest says nothing new.
  if (way.pausedUntil && way.pausedUntil > now) return way;
  const begins = way.failingSince === null;
  const lanes = begins ? Math.max(1, way.lanes - 1 / way.lanes) : way.lanes;
  const failedRounds = way.failedRounds + 1 / Math.max(1, Math.floor(way.lanes));
  const full = Math.floor(failedRounds + 1e-9);
  if (full < 1 || full === Math.floor(way.failedRounds + 1e-9))
    return { ...way, lanes, failedRounds, failingSince: way.failingSince ?? now, pausedFor: reason };
  return {
    ...way,
    lanes: 1,
    failedRounds: full,
    failingSince: way.failingSince ?? now,
    pausedUntil: new Date(now.getTime() + pauseAfter(full)),
    pausedFor: reason,
  };
}

/** A further connection was refused while `open` were there: that many it takes. Nothing failed that anybody would notice. */
export function afterRefusedLine(way: Way, open: number): Way {
  const most = Math.max(1, Math.min(open, Math.floor(way.lanes)));
  return { ...way, lanes: Math.min(way.lanes, most), lanesMost: most };
}

/** It hung up after so many mails on one connection: next time we end there ourselves. */
export const afterFullLine = (way: Way, mails: number): Way => ({
  ...way,
  mailsALine: way.mailsALine === null ? mails : Math.max(1, Math.min(way.mailsALine, mails)),
});

/** Below this many mails in the last minute it is hardly our pace that a server minds: one mailbox that wants us later says the same words. */
const PACE_FROM = 20;

/**
 * It asked for a slower pace: half as many connections and a short rest; and where we were quick, or have only one connection left to take away, seven
 * tenths of what went in the last minute, which grows again by a quarter a minute.
 */
export function afterSlowDown(way: Way, lastMinute: number, reason: string, now: Date): Way {
  const lanes = Math.max(1, way.lanes / 2);
  const rest = { lanes, pausedUntil: new Date(now.getTime() + 10_000), pausedFor: reason };
  if (way.perMinute === null && lastMinute < PACE_FROM && way.lanes > 1) return { ...way, ...rest };
  const perMinute = Math.max(6, Math.round(Math.min(way.perMinute ?? Number.POSITIVE_INFINITY, Math.max(lastMinute, 10)) * 0.7));
  return { ...way, ...rest, perMinute };
}

/** A minute went by without complaint: a pace that was asked for rises, and is forgotten once it no longer binds. */
export function afterQuietMinute(way: Way): Way {
  if (way.perMinute === null) return way;
  const perMinute = way.perMinute * 1.25 + 1;
  return { ...way, perMinute: perMinute > 6_000 ? null : perMinute };
}
