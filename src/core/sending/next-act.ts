import type { LetterState } from './letter-state';

/** What a letter is, as far as its next act depends on it. */
export type Standing = {
  state: LetterState;
  subject: string;
  /** Has it a sender, and is that one confirmed? */
  sender: 'none' | 'unconfirmed' | 'fine';
  empty: boolean;
  goes: 'both' | 'letter' | 'page';
  published: boolean;
  cause: string | null;
  /** Is its test decided, and does the rest wait to be told which version they get? */
  waits: boolean;
};

/** What a letter needs next of its writer, in words; '' where it needs nothing. */
export function nextAct({ state, subject, sender, empty, goes, published, cause, waits }: Standing): string {
  switch (state) {
    case 'draft':
      if (empty) return 'Write it';
      if (!subject) return 'Give it a title';
      if (goes === 'page') return published ? '' : 'Publish the page';
      if (sender === 'none') return 'Choose who it comes from';
      if (sender === 'unconfirmed') return 'Confirm its sender';
      return 'Give it a time';
    case 'held':
      return cause ?? 'Mend what holds it';
    case 'sending':
      return waits ? 'Say which version the rest gets' : '';
    case 'paused':
      return 'Let it go on, or stop it';
    default:
      return '';
  }
}

/** The parts in which letters are listed. */
export const SHELVES = ['all', 'drafts', 'runway', 'leaving', 'sent', 'away'] as const;
export type Shelf = (typeof SHELVES)[number];
export const SHELF_NAMES: Record<Shelf, string> = {
  all: 'All',
  drafts: 'Drafts',
  runway: 'On the runway',
  leaving: 'Leaving',
  sent: 'Sent',
  away: 'Put away',
};
/** The states that stand on each; all of them on the others. */
export const SHELF_STATES: Partial<Record<Shelf, LetterState[]>> = {
  drafts: ['draft'],
  runway: ['scheduled', 'held'],
  leaving: ['starting', 'sending', 'paused'],
  sent: ['sent', 'stopped'],
};
