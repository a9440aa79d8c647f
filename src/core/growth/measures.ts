/*
 * What the screens count, each with its one word and its one meaning. A screen that shows a figure names it by its word from here; docs/measures.md
 * lists them (a test holds the two together).
 */
export const MEASURES = {
  reading: ['Read now', 'People who read at least one list and whose address takes mail.'],
  waiting: ['Waiting', 'People who asked, have not confirmed, and read nothing else.'],
  joined: ['Joined', 'People who began to read on that day, having read nothing before.'],
  left: ['Left', 'People who read nothing any more since that day.'],
  shown: ['Shown', 'How often a form was loaded on a page, in these days.'],
  seen: ['Really seen', 'How often half of a form stood in a visitor’s window, in these days.'],
  begun: ['Begun', 'How often somebody began to fill it in, in these days.'],
  signedUp: ['Signed up', 'People who first came in these days, by a form.'],
  confirmed: ['Confirmed', 'Of those who signed up in these days: who confirmed, whenever that was.'],
  stayed: ['Still here', 'Of those who came more than 30 days ago and confirmed: who read now.'],
  held: [
    'Held back',
    'Sign-ups of the last 30 days that looked like a machine’s, or came in a crowd, and showed no work. Each address counts once.',
  ],
  recipients: [
    'Recipients',
    'Whom a letter’s audience had when it began, each person once, without those who asked for a pause; and whoever was let in while it left.',
  ],
  delivered: ['Delivered', 'Recipients whose mail server accepted the letter and sent no notice afterwards.'],
  read: ['Read', 'Recipients who opened the letter, as far as a person can be told from a machine.'],
  clicked: ['Clicked', 'Recipients who followed a link of the letter.'],
  cold: [
    'Cold for long',
    'People who read now, came longer ago than that, got at least six letters, and have opened none and followed no link for so long, as far as a person can be told from a machine.',
  ],
  lettersRead: [
    'Letters read',
    'Of the last ten letters that each of those who read now got: how many they opened, as far as a person can be told from a machine.',
  ],
} as const satisfies Record<string, readonly [word: string, meaning: string]>;

export type Measure = keyof typeof MEASURES;
export const wordOf = (measure: Measure): string => MEASURES[measure][0];

/** What forms brought: visits in some days, and the people who first came in them. */
export type FormSteps = { loaded: number; seen: number; started: number; asked: number; confirmed: number; reading: number };
export const NO_STEPS: FormSteps = { loaded: 0, seen: 0, started: 0, asked: 0, confirmed: 0, reading: 0 };
