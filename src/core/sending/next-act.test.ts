import { describe, expect, it } from 'vitest';
import { nextAct, type Standing } from './next-act';

const standing: Standing = {
  state: 'draft',
  subject: 'Eels',
  sender: 'fine',
  empty: false,
  goes: 'both',
  published: false,
  cause: null,
  waits: false,
};

describe('what a letter needs next', () => {
  it.each<[Partial<Standing>, string]>([
    [{ empty: true, subject: '' }, 'Write it'],
    [{ subject: '' }, 'Give it a title'],
    [{ sender: 'none' }, 'Choose who it comes from'],
    [{ sender: 'unconfirmed' }, 'Confirm its sender'],
    [{}, 'Give it a time'],
    [{ goes: 'page', sender: 'none' }, 'Publish the page'],
    [{ goes: 'page', published: true }, ''],
    [{ state: 'scheduled' }, ''],
    [{ state: 'held', cause: 'Its post was deleted.' }, 'Its post was deleted.'],
    [{ state: 'paused' }, 'Let it go on, or stop it'],
    [{ state: 'sending' }, ''],
    [{ state: 'sending', waits: true }, 'Say which version the rest gets'],
    [{ state: 'sent', waits: true }, ''],
  ])('%j: %s', (part, said) => {
    expect(nextAct({ ...standing, ...part })).toBe(said);
  });
});
