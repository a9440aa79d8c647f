import type { Notice } from '../writing/notice';
import type { FormDefinition } from './definition';
import { fill, wordsOf } from './words';

/** What a form's mail says, whoever gets it: the builder shows what will be sent. Where it leads, and why it comes, is said by whoever sends it. */
export type FormMail = Pick<Notice, 'name' | 'colour' | 'heading' | 'paragraphs' | 'language'> & {
  subject: string;
  /** What stands on its button; null for none. */
  label: string | null;
};

const paragraphsOf = (text: string) => text.split(/\n{2,}/);

/** The letter that asks somebody to confirm, for lists under the names that readers know. Whoever did not ask themselves is not told that they did. */
export function confirmationMail(
  form: FormDefinition,
  newsletter: string,
  lists: string[],
  asked = true,
): FormMail & { label: string } {
  const words = wordsOf(form.language).confirmation;
  const own = form.next.confirmation;
  return {
    name: newsletter,
    colour: '#17645c',
    subject: fill(own.subject || words.subject, { name: newsletter }),
    heading: fill(own.heading || words.heading, { name: newsletter }),
    paragraphs: paragraphsOf(
      (asked && own.words) || fill(asked ? words.words : words.invited, { label: lists.join(', ') || newsletter }),
    ),
    label: own.button || words.button,
    language: form.language,
  };
}

/** What a welcome letter begins as, until the writer says it in their own words. */
export const welcomeSubject = (newsletter: string): string => `Welcome to ${newsletter}`;
export const WELCOME_WORDS = 'Thank you for reading. The next letter comes to you.';

/** The letter that greets a new reader and carries the form's gift. */
export function welcomeMail(form: FormDefinition, newsletter: string): FormMail {
  const { welcome } = form.next;
  const subject = welcome.subject || welcomeSubject(newsletter);
  return {
    name: newsletter,
    colour: '#17645c',
    subject,
    heading: subject,
    paragraphs: paragraphsOf(welcome.words || WELCOME_WORDS),
    label: giftLabel(form),
    language: form.language,
  };
}

/** What a list's own welcome letter says; empty parts are said for it. */
export type ListWelcome = { subject: string; words: string };

/** The letter that greets somebody on a list, where no form has greeted them already. */
export function listWelcomeMail(
  { subject, words }: ListWelcome,
  list: string,
  language: string,
): Omit<FormMail, 'name' | 'label'> {
  const said = subject || welcomeSubject(list);
  return { colour: '#17645c', subject: said, heading: said, paragraphs: paragraphsOf(words || WELCOME_WORDS), language };
}

/** What the form's gift is called; null where none is promised, or nothing is there to be given. */
export function giftLabel({ next: { gift } }: FormDefinition): string | null {
  if (gift.kind === 'none' || (gift.kind === 'link' ? !gift.url : !gift.fileId)) return null;
  return gift.label || 'Your gift';
}
