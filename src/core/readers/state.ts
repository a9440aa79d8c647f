/** Where a reader stands on one list (docs: job words). */
export type ReaderState = 'waiting' | 'reading' | 'left';
/** What happens to a reader on a list, by their own act or the writer's. */
export type ReaderAct = 'ask' | 'confirm' | 'leave' | 'return';

/** What the record of consent tells of: the reader's own acts, what came back by mail, and what somebody of the newsletter did. */
export type ConsentAct =
  | ReaderAct
  | 'bounce'
  | 'complaint'
  | 'add'
  | 'take off'
  | 'suppress'
  | 'allow'
  | 'erase'
  | 'pause'
  | 'go on'
  | 'move'
  | 'stay';
export type ConsentActor = 'reader' | 'member' | 'import' | 'api' | 'mail';
/** Why an address may not be written to. */
export type SuppressionReason = 'hard bounce' | 'complaint' | 'erased' | 'by hand' | 'left';

export type Transition = {
  state: ReaderState;
  /** True when the stored state changes. */
  changed: boolean;
  /** True when a confirmation letter is wanted (the caller still rate-limits it). */
  sendsConfirmation: boolean;
};

const stay = (state: ReaderState): Transition => ({ state, changed: false, sendsConfirmation: false });
const move = (state: ReaderState, sendsConfirmation = false): Transition => ({ state, changed: true, sendsConfirmation });

/**
 * The state machine of consent. `null` is somebody the list does not know.
 * Asking again while waiting resends; while reading it changes nothing, and the visitor gets the same answer, so that
 * nobody can probe the list. Somebody who left comes back only by asking and, with double opt-in, confirming again.
 * Confirming is worth something only to someone who waits; leaving always works and works twice. Who left may take that back for a day, by the link
 * of their own that they left with.
 */
export function transition(from: ReaderState | null, act: ReaderAct, doubleOptIn: boolean): Transition {
  if (act === 'ask') {
    if (from === 'reading') return stay('reading');
    if (from === 'waiting') return doubleOptIn ? { ...stay('waiting'), sendsConfirmation: true } : move('reading');
    return doubleOptIn ? move('waiting', true) : move('reading');
  }
  if (act === 'return') return from === 'left' ? move('reading') : stay(from ?? 'left');
  if (act === 'confirm') return from === 'waiting' ? move('reading') : stay(from ?? 'left');
  return from === 'left' || from === null ? stay('left') : move('left');
}

/** How long a confirmation link works. */
export const CONFIRMATION_DAYS = 30;
/** How long leaving can be taken back. */
export const RETURN_HOURS = 24;
/** The least time between two confirmation letters for the same wish. */
export const RESEND_MINUTES = 10;
