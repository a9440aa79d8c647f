import { counted, together } from '../growth/figures';
import type { Lane } from './lanes';
import { rhythmWords } from './rhythm';
import { offeredLanes, type RuleSettings } from './rule';

/* What a rule says, in words that make one sentence of it: on the page where each of them opens its choices, and in a line where rules are listed. */

export const zonePlace = (zone: string): string => zone.split('/').at(-1)!.replaceAll('_', ' ');

/** "on any topic", or on which, by whom and with which words. */
export function takesWords({
  topics,
  authors,
  including,
  leavingOut,
}: Pick<RuleSettings, 'topics' | 'authors' | 'including' | 'leavingOut'>): string {
  const quoted = (words: readonly string[]) => together(words.map((word) => `“${word}”`));
  const said = [
    topics.length ? `on ${together(topics)}` : '',
    authors.length ? `by ${together(authors)}` : '',
    including.length ? `with ${quoted(including)}` : '',
    leavingOut.length ? `without ${quoted(leavingOut)}` : '',
  ].filter(Boolean);
  return said.length ? said.join(' ') : 'on any topic';
}

export const quietWords = (minutes: number): string =>
  minutes === 0
    ? 'no time at all'
    : minutes % 60 === 0
      ? counted(minutes / 60, 'hour', 'hours')
      : counted(minutes, 'minute', 'minutes');

export const rhythmInPlace = (settings: RuleSettings): string => {
  const hours = 'hour' in settings.rhythm;
  return `${rhythmWords(settings.rhythm)}${hours ? ` in ${zonePlace(settings.zone)}` : ''}`;
};

/** What readers may choose instead. */
export function choicesWords(settings: RuleSettings): string {
  if (!settings.choices) return 'at no other rhythm';
  const offered = offeredLanes(settings)
    .filter((one) => one.lane !== 'usual')
    .map((one) => rhythmWords(one.rhythm));
  return `unless they chose ${[offered.slice(0, -1).join(', '), offered.at(-1)].filter(Boolean).join(' or ')}`;
}

export const approvalWords = (approval: RuleSettings['approval']): string =>
  approval === null
    ? 'by itself'
    : `once somebody let it go within ${counted(approval.hours, 'hour', 'hours')}, ${approval.otherwise === 'send' ? 'or else by itself' : 'or else not'}`;

export const holdsWords = ({ holds, article }: Pick<RuleSettings, 'holds' | 'article'>): string =>
  holds === 'whole'
    ? article
      ? 'the whole article'
      : 'the whole post'
    : holds === 'beginning'
      ? 'its first paragraphs'
      : 'its summary';

/** What a letter holds at most, where a letter can hold several posts. */
export const mostWords = ({ most, rest }: Pick<RuleSettings, 'most' | 'rest'>): string =>
  `at most ${counted(most, 'post', 'posts')} in a letter, ${rest === 'next' ? 'the rest in the next one' : 'the rest in none'}`;

const LANE_WORDS: Record<Lane, string> = {
  usual: 'as they usually do',
  each: 'one by one',
  daily: 'once a day',
  weekly: 'once a week',
};
/** Which of its audience a rule's letter is for, in words that go on from whom it names; '' for any other letter. */
export const laneWords = (lane: Lane | null): string => (lane ? `, as far as new posts come to them ${LANE_WORDS[lane]}` : '');
