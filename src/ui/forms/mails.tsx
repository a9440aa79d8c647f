'use client';

import type { FormDefinition, Next } from '@/core/forms/definition';
import { confirmationMail, type FormMail, WELCOME_WORDS, welcomeMail, welcomeSubject } from '@/core/forms/mails';
import { fill, wordsOf } from '@/core/forms/words';
import type { Look } from '@/core/writing/look';
import { renderNotice } from '@/core/writing/notice';
import { Tick, Words } from '../kit/controls';
import { type ClauseProps, SenderChoice } from './clauses';

type MailsProps = { form: FormDefinition; newsletter: string; lists: string[]; dress: { look: Look; accent: string } };
/** The mails that a form sends, as they will look. `lists` are the names that readers know. */
export function Mails({ form, newsletter, lists, dress }: MailsProps) {
  const html = ({ label, ...mail }: FormMail) =>
    renderNotice(
      {
        ...mail,
        colour: dress.accent,
        ...(label ? { link: { label, url: 'https://…' } } : {}),
        footer: ['Why this comes, and your postal address'],
      },
      undefined,
      dress.look,
    ).html;
  const mails = [confirmationMail(form, newsletter, lists), ...(form.next.welcome.on ? [welcomeMail(form, newsletter)] : [])];
  return <iframe title="The mails" sandbox="" srcDoc={mails.map(html).join('')} className="h-full w-full bg-white" />;
}

/** What stands in a form's mails. */
export function MailSettings(props: ClauseProps) {
  const { form, set, newsletter } = props;
  const words = wordsOf(form.language).confirmation;
  const { confirmation, welcome } = form.next;
  const next = (part: Partial<Next>) => set({ ...form, next: { ...form.next, ...part } });
  const say = (part: Partial<Next['confirmation']>) => next({ confirmation: { ...confirmation, ...part } });
  const greet = (part: Partial<Next['welcome']>) => next({ welcome: { ...welcome, ...part } });
  return (
    <>
      <h3 className="font-semibold">The confirmation letter</h3>
      <Words
        label="Subject"
        value={confirmation.subject}
        placeholder={fill(words.subject, { name: newsletter.name })}
        change={(subject) => say({ subject })}
      />
      <Words label="Heading" value={confirmation.heading} placeholder={words.heading} change={(heading) => say({ heading })} />
      <Words
        long
        label="Words"
        value={confirmation.words}
        placeholder={words.words.replace('LABEL', 'its lists')}
        change={(text) => say({ words: text })}
      />
      <Words label="Button" value={confirmation.button} placeholder={words.button} change={(button) => say({ button })} />
      <SenderChoice {...props} />
      <h3 className="border-t pt-3 font-semibold">The welcome letter</h3>
      <Tick
        label="Send it"
        hint="At once after confirming, with the gift in it."
        on={welcome.on}
        change={(on) => greet({ on })}
      />
      {welcome.on && (
        <>
          <Words
            label="Its subject"
            value={welcome.subject}
            placeholder={welcomeSubject(newsletter.name)}
            change={(subject) => greet({ subject })}
          />
          <Words
            long
            label="Its words"
            value={welcome.words}
            placeholder={WELCOME_WORDS}
            change={(text) => greet({ words: text })}
            hint="An empty line begins a paragraph. The gift stands under them."
          />
        </>
      )}
    </>
  );
}
