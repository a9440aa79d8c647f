'use client';

import type { FormDefinition, Next } from '@/core/forms/definition';
import { fill, wordsOf } from '@/core/forms/words';
import { together } from '@/core/growth/figures';
import { renderNotice } from '@/core/writing/notice';
import { type ClauseProps, SenderChoice } from './clauses';
import { Tick, Words } from './controls';

/** The mails that a form sends, as they will look. */
export function Mails({ form, newsletter, lists }: { form: FormDefinition; newsletter: string; lists: string[] }) {
  const words = wordsOf(form.language).confirmation;
  const { confirmation, welcome, gift } = form.next;
  const notice = (heading: string, text: string, label?: string) =>
    renderNotice({
      name: newsletter,
      colour: '#17645c',
      heading,
      paragraphs: text.split(/\n{2,}/),
      ...(label ? { link: { label, url: 'https://…' } } : {}),
      footer: ['Why this comes, and your postal address'],
      language: form.language,
    }).html;
  const first = notice(
    fill(confirmation.heading || words.heading, { name: newsletter }),
    confirmation.words || fill(words.words, { label: together(lists, 20) || newsletter }),
    confirmation.button || words.button,
  );
  const second = welcome.on
    ? notice(
        welcome.subject || `Welcome to ${newsletter}`,
        welcome.words || WELCOME,
        gift.kind === 'none' ? undefined : gift.label || 'Your gift',
      )
    : '';
  return <iframe title="The mails" sandbox="" srcDoc={first + second} className="h-full w-full bg-white" />;
}

const WELCOME = 'Thank you for reading. The next letter comes to you.';

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
            placeholder={`Welcome to ${newsletter.name}`}
            change={(subject) => greet({ subject })}
          />
          <Words
            long
            label="Its words"
            value={welcome.words}
            placeholder={WELCOME}
            change={(text) => greet({ words: text })}
            hint="An empty line begins a paragraph. The gift stands under them."
          />
        </>
      )}
    </>
  );
}
