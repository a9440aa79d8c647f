import {
  COMPLAINTS,
  type Copies,
  ELSEWHERE,
  FEW_COMPLAINTS,
  NO_COPIES,
  type Provider,
  plus,
  type Standing,
  settledOf,
} from '../delivery/standing';
import { counted, figure, percent } from './figures';
import { type Part, type Unusual, unusualCount, unusualShare } from './unusual';

/*
 * What a writer has to be told without having looked: that something is out of the usual, by what the newsletter's own half year says is usual, and by the lines that
 * large providers publish.
 */

export const WARNING_KINDS = ['complaints', 'refuses', 'few confirm', 'few join'] as const;
export type WarningKind = (typeof WARNING_KINDS)[number];
export type Warning = {
  kind: WarningKind;
  /** The provider that it is about, else nothing. */
  about: string;
  heading: string;
  /** What, why as far as it is known, and what to do. */
  words: string[];
  /** Where it is seen on the desk. */
  path: string;
};

/** What is looked at: weeks that are past, and what is held against them. */
export type Watched = {
  /** The Monday of the first week of what is lately. */
  lately: string;
  providers: Provider[];
  standings: Standing[];
  /** Of those who asked by a form, week by week, and in the latest fortnight that had time to confirm: who did. */
  confirmed: { past: Part[]; latest: Part };
  /** Who joined, fortnight by fortnight, and in the latest. */
  joined: { past: number[]; latest: number };
};

/** Of fewer is not said that few of them confirm. */
const FEW_ASKED = 20;
/** Something that changed by less is none of a writer's cares, however sure it is. */
const FEWER = { confirm: 0.85, join: 0.5 };
/** Below this share complaints are no trouble, even where they were fewer. */
const COMPLAINTS_TOLD = COMPLAINTS.look / 2;

const usualWords = (found: Unusual | null, edge: 'from' | 'to'): string =>
  found
    ? ` Usual for you is ${found.usual < 0.00005 ? 'hardly any' : `about ${share(found.usual)}`}; ${edge === 'from' ? `${share(found.edge)} and more` : `${share(found.edge)} and less`} is not.`
    : '';
/** Shares of complaints are small: with two decimals. */
const share = (value: number): string => (value < 0.05 ? `${(100 * value).toFixed(2)}%` : `${(100 * value).toFixed(0)}%`);

/** All that is out of the usual now. */
export function warningsOf(watched: Watched): Warning[] {
  return [
    complaints(watched),
    ...watched.providers.map((one) => refusal(watched, one)),
    fewConfirm(watched),
    fewJoin(watched),
  ].filter((one) => one !== null);
}

const split = (lately: string, weeks: Provider['weeks']) => ({
  past: weeks.filter(({ week }) => week < lately).map(({ copies }) => copies),
  latest: weeks
    .filter(({ week }) => week >= lately)
    .map(({ copies }) => copies)
    .reduce(plus, NO_COPIES),
});

function complaints({ lately, providers }: Watched): Warning | null {
  const byWeek = new Map<string, Copies>();
  for (const { weeks } of providers)
    for (const { week, copies } of weeks) byWeek.set(week, plus(byWeek.get(week) ?? NO_COPIES, copies));
  const { past, latest } = split(
    lately,
    [...byWeek].map(([week, copies]) => ({ week, copies })),
  );
  const part = ({ complained, delivered }: Copies): Part => ({ part: Math.min(complained, delivered), whole: delivered });
  const now = part(latest);
  if (now.part < FEW_COMPLAINTS) return null;
  const rate = now.part / now.whole;
  const found = unusualShare(past.map(part), now, 'above');
  const told = rate >= COMPLAINTS.mend || (found ? found.is && rate >= COMPLAINTS_TOLD : rate >= COMPLAINTS.look);
  if (!told) return null;
  return {
    kind: 'complaints',
    about: '',
    // Where they always did, or nobody can tell, it is not more than usual.
    heading: found?.is ? 'More readers than usual report letters as junk' : 'Many readers report letters as junk',
    words: [
      `${figure(now.part)} of ${figure(now.whole)} letters of the last four weeks were reported (${share(rate)}).${usualWords(found, 'from')}`,
      rate >= COMPLAINTS.mend
        ? 'Above 0.3%, large providers begin to turn letters away.'
        : 'Above 0.1%, large providers look closer; above 0.3% they begin to turn letters away.',
      'Look at what the latest letters had in common, ask those who have long read nothing whether they stay, and see where those who reported came from.',
    ],
    path: '/delivery?days=28',
  };
}

/** What is said of a provider whose habit is known, and of one of which there is none yet. */
const refusing = (several: boolean, known: boolean): string =>
  known
    ? `${several ? 'do' : 'does'} not take letters as ${several ? 'they' : 'it'} used to`
    : `${several ? 'turn' : 'turns'} letters away`;

function refusal({ lately, standings }: Watched, provider: Provider): Warning | null {
  const standing = standings.find(({ name }) => name === provider.name);
  if (standing?.trouble !== 'refuses') return null;
  const { past, latest } = split(lately, provider.weeks);
  const part = (copies: Copies): Part => ({ part: copies.refused + copies.givenUp, whole: settledOf(copies) });
  const now = part(latest);
  const found = unusualShare(past.map(part), now, 'above');
  // What it has long done, and is on the screen, is no news.
  if (found && !found.is) return null;
  return {
    kind: 'refuses',
    about: provider.name,
    heading: `${provider.name === ELSEWHERE ? 'Smaller providers' : provider.name} ${refusing(provider.name === ELSEWHERE, found !== null)}`,
    words: [
      `Of ${figure(now.whole)} copies that went there in the last four weeks ${figure(now.part)} were not taken (${percent(now.part, now.whole)}).${usualWords(found, 'from')}`,
      `${standing.why} ${standing.todo}`,
    ],
    path: '/delivery?days=28',
  };
}

function fewConfirm({ confirmed: { past, latest } }: Watched): Warning | null {
  if (latest.whole < FEW_ASKED) return null;
  const found = unusualShare(past, latest, 'below');
  if (!found?.is || latest.part / latest.whole > FEWER.confirm * found.usual) return null;
  return {
    kind: 'few confirm',
    about: '',
    heading: 'Fewer people than usual confirm that they want to read',
    words: [
      `Of ${figure(latest.whole)} who signed up in a fortnight, ${figure(latest.part)} confirmed (${percent(latest.part, latest.whole)}).${usualWords(found, 'to')}`,
      'Either their confirmation mails do not reach them, or many who sign up are no people. Growth says where they are lost, and Delivery how providers take your mail.',
    ],
    path: '/growth',
  };
}

function fewJoin({ joined: { past, latest } }: Watched): Warning | null {
  const found = unusualCount(past, latest, 'below');
  if (!found?.is || latest > FEWER.join * found.usual) return null;
  return {
    kind: 'few join',
    about: '',
    heading: latest === 0 ? 'Nobody joined in the two weeks to yesterday' : 'Far fewer people than usual join',
    words: [
      `${counted(latest, 'person', 'people')} joined in the two weeks to yesterday. Usual for you are about ${figure(Math.round(found.usual))}; ${figure(Math.floor(found.edge))} and fewer are not.`,
      'Look whether your forms are still where they were and are seen, and whether a page that led to them is gone.',
    ],
    path: '/growth',
  };
}
