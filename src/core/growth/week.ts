import { type ReadRange, readRange } from '../sending/result';
import { counted, figure, percent, together } from './figures';
import { dayOfYear } from './times';

/* What an owner reads on a Monday: the week that ended, in the figures of the desk's own screens. */

export type WeekLetter = {
  subject: string;
  recipients: number;
  delivered: number;
  /** Seen to read it; for whom a machine opened it; and it alone. */
  people: number;
  machines: number;
  hidden: number;
  clicked: number;
  /** Are openings, and clicks, counted at all? */
  counted: { opens: boolean; clicks: boolean };
};
export type Week = {
  from: string;
  to: string;
  reading: number;
  now: { joined: number; left: number };
  before: { joined: number; left: number };
  /** The largest sources of those who signed up by a form in the week, and of how many altogether. */
  signedUp: number;
  sources: { name: string; asked: number }[];
  letters: WeekLetter[];
  moreLetters: number;
  /** Providers that want a look, each with how it is. */
  troubled: { name: string; state: string }[];
  unusual: string[];
  goal: { readers: number; day: string | null; reached: boolean } | null;
  /** What leaves in the coming week. */
  ahead: { subject: string; day: string }[];
};

/** Is there nothing to tell? Nobody reads, nobody came or went, nothing left. */
export const isEmptyWeek = ({ reading, now, letters, signedUp }: Week): boolean =>
  reading + now.joined + now.left + letters.length + signedUp === 0;

const range = ({ least, about, most }: ReadRange): string =>
  least === most ? figure(about) : `about ${figure(about)} (${figure(least)} to ${figure(most)})`;

/** The week as a mail's heading and paragraphs. */
export function weekWords(week: Week): { heading: string; paragraphs: string[] } {
  const { now, before } = week;
  const paragraphs = [
    `${counted(week.reading, 'person reads', 'people read')} now. From Monday, ${dayOfYear(week.from)}, to Sunday, ${dayOfYear(week.to)}, ${figure(now.joined)} joined and ${figure(now.left)} left; the week before it was ${figure(before.joined)} and ${figure(before.left)}.`,
  ];
  if (week.signedUp > 0 && week.sources.length > 0) {
    const others = week.signedUp - week.sources.reduce((sum, { asked }) => sum + asked, 0);
    const ways = week.sources.map(
      ({ name, asked }) => `${name === 'direct' ? 'directly' : `by way of ${name}`} (${figure(asked)})`,
    );
    paragraphs.push(
      `${counted(week.signedUp, 'person', 'people')} signed up by a form: ${together([...ways, ...(others > 0 ? [`otherwise (${figure(others)})`] : [])], 9)}.`,
    );
  }
  for (const letter of week.letters) paragraphs.push(letterWords(letter));
  if (week.letters.length === 0) paragraphs.push('No letter left.');
  if (week.moreLetters > 0) paragraphs.push(`${counted(week.moreLetters, 'more letter', 'more letters')} left.`);
  if (week.troubled.length > 0)
    paragraphs.push(
      `Want a look under Delivery: ${week.troubled.map(({ name, state }) => `${name} (${state.charAt(0).toLowerCase() + state.slice(1)})`).join('; ')}.`,
    );
  if (week.unusual.length > 0) paragraphs.push(`Out of the usual: ${week.unusual.join('; ')}.`);
  if (week.goal)
    paragraphs.push(
      week.goal.reached
        ? `The goal of ${counted(week.goal.readers, 'reader', 'readers')} is met.`
        : week.goal.day
          ? `If it goes on as lately, the goal of ${counted(week.goal.readers, 'reader', 'readers')} is met about ${dayOfYear(week.goal.day)}.`
          : `If it goes on as lately, the goal of ${counted(week.goal.readers, 'reader', 'readers')} is not met within the next months.`,
    );
  if (week.ahead.length > 0)
    paragraphs.push(
      `In the coming days: ${week.ahead.map(({ subject, day }) => `“${subject}” on ${dayOfYear(day)}`).join('; ')}.`,
    );
  return {
    heading: `The week to ${dayOfYear(week.to)}: ${figure(now.joined)} joined, ${figure(now.left)} left`,
    paragraphs,
  };
}

function letterWords({ subject, recipients, delivered, people, machines, hidden, clicked, counted: known }: WeekLetter): string {
  const parts = [`${figure(delivered)} of ${figure(recipients)} delivered (${percent(delivered, recipients)})`];
  if (known.opens) parts.push(`read by ${range(readRange({ delivered, people, machines, hidden }))}`);
  if (known.clicks) parts.push(`${figure(clicked)} followed a link`);
  return `“${subject}”: ${parts.join(', ')}.`;
}
