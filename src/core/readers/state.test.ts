import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { type ReaderAct, type ReaderState, transition } from './state';

describe('transition', () => {
  it.each<[ReaderState | null, ReaderAct, boolean, ReaderState, boolean, boolean]>([
    [null, 'ask', true, 'waiting', true, true],
    [null, 'ask', false, 'reading', true, false],
    ['waiting', 'ask', true, 'waiting', false, true],
    ['waiting', 'ask', false, 'reading', true, false],
    ['reading', 'ask', true, 'reading', false, false],
    ['left', 'ask', true, 'waiting', true, true],
    ['waiting', 'confirm', true, 'reading', true, false],
    ['left', 'confirm', true, 'left', false, false],
    [null, 'confirm', true, 'left', false, false],
    ['reading', 'leave', true, 'left', true, false],
    ['waiting', 'leave', true, 'left', true, false],
    ['left', 'leave', true, 'left', false, false],
  ])('%s, %s (double opt-in %s) is %s', (from, act, double, state, changed, sendsConfirmation) => {
    expect(transition(from, act, double)).toEqual({ state, changed, sendsConfirmation });
  });

  it('with double opt-in nobody ever reads without having confirmed since they last asked', () => {
    const acts = fc.array(fc.constantFrom<ReaderAct>('ask', 'confirm', 'leave'), { maxLength: 12 });
    fc.assert(
      fc.property(acts, (all) => {
        let state: ReaderState | null = null;
        let proven = false;
        for (const act of all) {
          if (act === 'leave') proven = false;
          if (act === 'confirm' && state === 'waiting') proven = true;
          state = transition(state, act, true).state;
          if (state === 'reading') expect(proven).toBe(true);
        }
      }),
    );
  });
});
