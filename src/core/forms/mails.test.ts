import { describe, expect, it } from 'vitest';
import { type FormDefinition, startingForm } from './definition';
import { confirmationMail, giftLabel, WELCOME_WORDS, welcomeMail } from './mails';
import { FORM_WORDS } from './words';

const start = startingForm('Lanternfish Letters');
const withNext = (part: Partial<FormDefinition['next']>) => ({ ...start, next: { ...start.next, ...part } });

describe('the mails of a form', () => {
  it('speak its language until the writer says it otherwise, and name the lists as readers know them', () => {
    for (const language of Object.keys(FORM_WORDS)) {
      const mail = confirmationMail(startingForm('Lanternfish Letters', language), 'Lanternfish Letters', ['Essays', 'Maps']);
      expect([mail.language, mail.paragraphs.join()]).toEqual([language, expect.stringContaining('Essays, Maps')]);
      expect(`${mail.subject} ${mail.heading} ${mail.label}`).not.toMatch(/NAME|LABEL|undefined/);
    }
    const own = { ...start.next.confirmation, subject: 'One click', words: 'First.\n\nSecond.', button: 'Yes' };
    expect(confirmationMail(withNext({ confirmation: own }), 'Lanternfish Letters', [])).toMatchObject({
      subject: 'One click',
      paragraphs: ['First.', 'Second.'],
      label: 'Yes',
    });
  });

  it('promise a gift only where something is there to be given', () => {
    const gift = { kind: 'link' as const, label: 'A map', url: '', fileId: '' };
    expect(giftLabel(withNext({ gift }))).toBeNull();
    expect(giftLabel(withNext({ gift: { ...gift, kind: 'file' } }))).toBeNull();
    expect(giftLabel(withNext({ gift: { ...gift, url: 'https://lanternfish.example/map' } }))).toBe('A map');
    expect(welcomeMail(withNext({ gift }), 'Lanternfish Letters')).toMatchObject({ label: null, paragraphs: [WELCOME_WORDS] });
  });
});
