/**
 * Ramp-up: a new domain has no name yet, and a mailbox provider that suddenly sees thousands of letters from it takes them for spam. So the
 * daily volume rises step by step, and stands still or falls while complaints or bounces say that something is wrong.
 */
export type RampPlan = {
  startedOn: string /** Letters on the first day. */;
  first: number /** Days until the full volume. */;
  days: number /** The volume to arrive at: a day's usual most. */;
  volume: number;
};
export type RampDay = { complaints: number; bounced: number; delivered: number };

export const LEAST_FIRST = 20;
/** Shares beyond which a step is not taken, and beyond which it is undone: the mailbox providers' own published lines. */
const HOLD = { complaints: 0.001, bounces: 0.03 };
const BACK = { complaints: 0.003, bounces: 0.08 };

/** A plan for a volume: a fiftieth on the first day (at least 20), over 7 to 28 days, longer for larger lists. */
export function proposeRamp(volume: number, startedOn: string): RampPlan {
  const first = Math.max(LEAST_FIRST, Math.min(volume, Math.round(volume / 50)));
  const doublings = Math.log2(Math.max(1, volume / first));
  return { startedOn, first, volume: Math.max(volume, LEAST_FIRST), days: Math.max(7, Math.min(28, Math.ceil(doublings * 2.5))) };
}

/**
 * The ceiling of each day of a plan, by geometric steps from the first day's to the whole volume. `past` holds what came of each day so
 * far: after a day over the lower lines the next step is not taken, after one over the upper lines the last step is undone.
 * Returns one number a day; the plan lasts as long as it takes to reach the volume (at most 90 days).
 */
export function rampCeilings(plan: RampPlan, past: RampDay[]): number[] {
  const factor = plan.days > 1 ? (plan.volume / plan.first) ** (1 / (plan.days - 1)) : 1;
  const ceilings: number[] = [];
  for (let step = 0, day = 0; day < 90; day += 1) {
    const ceiling = Math.min(plan.volume, Math.round(plan.first * factor ** step));
    ceilings.push(ceiling);
    if (ceiling >= plan.volume) break;
    step = Math.max(0, step + stepAfter(past[day]));
  }
  return ceilings;
}

function stepAfter(day: RampDay | undefined): -1 | 0 | 1 {
  if (!day || day.delivered + day.bounced === 0) return 1;
  const complaints = day.complaints / Math.max(1, day.delivered);
  const bounces = day.bounced / (day.delivered + day.bounced);
  // A single complaint among few letters says nothing yet.
  const enough = day.complaints > 1;
  if ((enough && complaints > BACK.complaints) || (day.bounced > 5 && bounces > BACK.bounces)) return -1;
  if ((enough && complaints > HOLD.complaints) || (day.bounced > 5 && bounces > HOLD.bounces)) return 0;
  return 1;
}

export type Share = { day: string; count: number };

/**
 * Spreads a letter's recipients over days so that no day goes over its ceiling: `room` holds, from today on, how many more may leave each
 * day; once the list ends there is no ceiling any more. Every recipient has a day.
 */
export const spread = (recipients: number, room: readonly { day: string; left: number }[], after: string): Share[] =>
  spreadLater(new Map([[room[0]?.day ?? after, recipients]]), room.length ? room : [{ day: after, left: recipients }], after);

/**
 * The same for copies that wait for their days already, none of which is to leave sooner than it was to: `waiting` says how many wait for each day. Returns the shares in
 * the order of these days; what waits for days after the last room stays there.
 */
export function spreadLater(
  waiting: ReadonlyMap<string, number>,
  room: readonly { day: string; left: number }[],
  after: string,
): Share[] {
  const shares: Share[] = [];
  let rest = 0;
  for (const { day, left } of room) {
    rest += waiting.get(day) ?? 0;
    const count = Math.min(rest, Math.max(0, left));
    if (count > 0) shares.push({ day, count });
    rest -= count;
  }
  return rest > 0 ? [...shares, { day: after, count: rest }] : shares;
}
