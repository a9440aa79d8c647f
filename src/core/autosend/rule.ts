import type { Audience } from '../sending/audience';
import type { Gathering } from './gather';
import { LANES, type Lane } from './lanes';
import { type Rhythm, rhythmWords, WEEKDAYS, type Weekday } from './rhythm';

/** How much of a post stands in the letter: all of it, its first paragraphs, or its summary, each with a link to the rest. */
export const HOLDS = ['whole', 'beginning', 'summary'] as const;

/** What a rule says, besides from where, to whom, from whom and in which layout. */
export type RuleSettings = {
  topics: string[];
  authors: string[];
  including: string[];
  leavingOut: string[];
  /** So long a post has to stand unchanged, for its writer's last edits. */
  quietMinutes: number;
  rhythm: Rhythm;
  /** In which its hours are. */
  zone: string;
  /** What readers may choose instead: each post at once, every day at an hour, or a day of the week at an hour; nothing where it is null. */
  choices: { daily: string; weekly: { day: Weekday; hour: string } } | null;
  /** At most so many posts in one letter, and what comes of those that are more. */
  most: number;
  rest: 'next' | 'never';
  /** A letter is a draft that somebody lets go within so many hours; and what happens if nobody does. null: it leaves by itself. */
  approval: { hours: number; otherwise: 'send' | 'drop' } | null;
  holds: (typeof HOLDS)[number];
  /** Where the feed has a summary alone: is the article read on its own page? */
  article: boolean;
  /** With chips between ‹ and ›. */
  subject: string;
  /** What the link says that invites to comment; '' for none. */
  invitation: string;
  /** Under which name the blog's own count of visits finds them; '' marks no link. */
  campaign: string;
  /** More new posts than this at once wait for somebody's word; null: than is usual for the blog. */
  brake: number | null;
};

/** All that a rule says, as somebody changes it. `intro` is a note before the next letter, once. */
export type RuleWords = {
  name: string;
  settings: RuleSettings;
  audience: Audience;
  senderId: string;
  layoutId: string;
  intro: string;
};

export const MOST_POSTS = 50;
export const MOST_QUIET = 1_440;

export const usualSettings = (zone: string): RuleSettings => ({
  topics: [],
  authors: [],
  including: [],
  leavingOut: [],
  quietMinutes: 20,
  rhythm: { kind: 'each' },
  zone,
  choices: null,
  most: 10,
  rest: 'next',
  approval: null,
  holds: 'whole',
  article: false,
  subject: '‹first title› ‹and more›',
  invitation: '',
  campaign: '',
  brake: null,
});

export const gatheringOf = (settings: RuleSettings): Gathering => ({
  topics: settings.topics,
  authors: settings.authors,
  including: settings.including,
  leavingOut: settings.leavingOut,
  quietMs: settings.quietMinutes * 60_000,
  most: settings.most,
  rest: settings.rest,
});

/** When a lane's letters leave; null for one that nobody may choose. */
export function laneRhythm(settings: Pick<RuleSettings, 'rhythm' | 'choices'>, lane: Lane): Rhythm | null {
  if (lane === 'usual') return settings.rhythm;
  if (!settings.choices) return null;
  if (lane === 'each') return { kind: 'each' };
  return lane === 'daily'
    ? { kind: 'days', days: [...WEEKDAYS], hour: settings.choices.daily }
    : { kind: 'days', days: [settings.choices.weekly.day], hour: settings.choices.weekly.hour };
}

/** The lane that a reader who chose nothing is in, and those they may choose; one that says what the usual one says is not said twice. */
export function offeredLanes(settings: Pick<RuleSettings, 'rhythm' | 'choices'>): { lane: Lane; rhythm: Rhythm }[] {
  const all = LANES.flatMap((lane) => {
    const its = laneRhythm(settings, lane);
    return its ? [{ lane, rhythm: its }] : [];
  });
  const usual = rhythmWords(settings.rhythm);
  return all.filter((one) => one.lane === 'usual' || rhythmWords(one.rhythm) !== usual);
}
