import { counted, figure, together } from '../growth/figures';
import { spokenTime } from '../growth/times';
import { type Audience, listsIn } from './audience';

/** A letter of before, as far as the next one is held against it. */
export type Former = { subject: string; at: Date; recipients: number; lists: string[] };
/** Another letter that leaves within a day of this one, and how many get both. */
export type Meeting = { id: string; subject: string; at: Date; both: number };

export type Difference = { title: string; words: string };

/** So much more or fewer than last time is pointed out. */
const MUCH = 0.5;
/** The same letter within so long is pointed out. */
export const SAME_DAYS = 30;
export const MEETING_HOURS = 24;

/** Which letters leave within a day of another one that goes to one of the same lists. */
export function nearEachOther(letters: readonly { id: string; at: Date; audience: Audience }[]): Set<string> {
  const meets = (a: (typeof letters)[number], b: (typeof letters)[number]) =>
    a !== b &&
    Math.abs(a.at.getTime() - b.at.getTime()) < MEETING_HOURS * 3_600_000 &&
    listsIn(a.audience).some((list) => listsIn(b.audience).includes(list));
  return new Set(letters.filter((one) => letters.some((other) => meets(one, other))).map((one) => one.id));
}

/**
 * What is not as it was the last time, or not as anybody means it to be. A letter is a first one where there is no former. Each is to be confirmed before it
 * leaves.
 */
export function differencesOf(of: {
  will: number;
  lists: string[];
  former: Former | null;
  /** The same words, sent lately. */
  same: { subject: string; at: Date } | null;
  meetings: Meeting[];
  now: Date;
  zone: string;
}): Difference[] {
  const { will, lists, former, same, meetings, now, zone } = of;
  const found: Difference[] = [];
  if (former && former.recipients > 0 && Math.abs(will - former.recipients) / former.recipients > MUCH)
    found.push({
      title: `${counted(will, 'person', 'people')} this time, ${figure(former.recipients)} the last`,
      words: `“${former.subject}” went to ${counted(former.recipients, 'person', 'people')}.`,
    });
  const others = former ? lists.filter((list) => !former.lists.includes(list)) : [];
  const missed = former ? former.lists.filter((list) => !lists.includes(list)) : [];
  if (former && former.lists.length > 0 && (others.length > 0 || missed.length > 0))
    found.push({
      title: 'Not the lists of the last letter',
      words: [
        others.length > 0 && `It goes to ${together(others.map((one) => `“${one}”`))}, which the last one did not.`,
        missed.length > 0 && `It does not go to ${together(missed.map((one) => `“${one}”`))}, which the last one did.`,
      ]
        .filter(Boolean)
        .join(' '),
    });
  if (same)
    found.push({
      title: 'These words were sent lately',
      words: `“${same.subject}” said the same, ${spokenTime(same.at, now, zone)}.`,
    });
  for (const meeting of meetings)
    found.push({
      title: `${counted(meeting.both, 'person gets', 'people get')} two letters within a day`,
      words: `“${meeting.subject}” ${meeting.at > now ? 'leaves' : 'left'} ${spokenTime(meeting.at, now, zone)}.`,
    });
  return found;
}
