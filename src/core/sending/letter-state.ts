/** Where a letter stands. `held` waits for something to be mended and goes on by itself; `paused` waits for the writer. */
export type LetterState = 'draft' | 'scheduled' | 'held' | 'starting' | 'sending' | 'paused' | 'stopped' | 'sent';

/** What moves a letter, each with its cause: the writer's act, or what the post office found. */
export type LetterAct =
  | 'schedule'
  | 'unschedule'
  | 'hold'
  | 'release'
  | 'start'
  | 'fix recipients'
  | 'pause'
  | 'resume'
  | 'stop'
  | 'finish';

const MOVES: Record<LetterAct, Partial<Record<LetterState, LetterState>>> = {
  schedule: { draft: 'scheduled', scheduled: 'scheduled', held: 'scheduled' },
  unschedule: { scheduled: 'draft', held: 'draft' },
  // Only what has not left yet can be held.
  hold: { scheduled: 'held', held: 'held', starting: 'held' },
  release: { held: 'scheduled' },
  start: { scheduled: 'starting', held: 'starting' },
  'fix recipients': { starting: 'sending' },
  pause: { sending: 'paused' },
  resume: { paused: 'sending' },
  // A letter that is stopped before it began has gone to nobody and may be written on; one that had begun is over.
  stop: { starting: 'stopped', sending: 'stopped', paused: 'stopped' },
  finish: { sending: 'sent' },
};

/** The state after an act, or null where the act means nothing in this state. */
export const afterAct = (state: LetterState, act: LetterAct): LetterState | null => MOVES[act][state] ?? null;

/** The states from which an act leads somewhere. */
export const statesFor = (act: LetterAct): LetterState[] => Object.keys(MOVES[act]) as LetterState[];

/** Has it begun to leave? Then its recipients are fixed. */
export const hasBegun = (state: LetterState): boolean => ['sending', 'paused', 'stopped', 'sent'].includes(state);
