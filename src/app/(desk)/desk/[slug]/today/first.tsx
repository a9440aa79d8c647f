import { Check } from 'lucide-react';
import Link from 'next/link';
import type { ReactNode } from 'react';
import { formCodes } from '@/core/forms/codes';
import { counted, plural } from '@/core/growth/figures';
import { ago, greeting } from '@/core/growth/times';
import { holds } from '@/core/senders/judge';
import { zoneFile } from '@/core/senders/zone-file';
import type { Context, Newsletter } from '@/server/context';
import type { FirstSteps } from '@/server/growth/today';
import { TryIt } from '@/ui/forms/try-it';
import { ActionButton, ActionForm, TextField } from '@/ui/kit/action-form';
import { ButtonLink } from '@/ui/kit/button';
import { Copy } from '@/ui/kit/copy';
import { ActionDialog } from '@/ui/kit/dialog';
import { Note, Screen, Section, Standfirst } from '@/ui/kit/page';
import { Refreshing } from '@/ui/kit/refreshing';
import { lookForFeeds, switchOn } from '../auto-sends/actions';
import { checkNow, makeDomain, makeSender, sendProofAgain, sendRecords } from '../delivery/actions';
import { endTry, tryForm } from '../forms/actions';

type Props = { ctx: Context; newsletter: Newsletter; person: { name: string; email: string }; data: FirstSteps };
type Step = {
  title: string;
  /** What it is, once done. */
  done: string | null;
  /** What it takes and why. */
  words: string;
  minutes: number;
  mostlyWaiting?: boolean;
  acts: ReactNode;
};

/** Today of a newsletter that has sent nothing yet: the next step large, with all it takes, and the others around it. */
export function First({ ctx, newsletter, person, data }: Props) {
  const steps = stepsOf({ ctx, newsletter, person, data });
  const at = steps.findIndex((step) => step.done === null);
  const left = steps.reduce((sum, step) => sum + (step.done === null ? step.minutes : 0), 0);
  return (
    <Screen
      margin={
        <>
          <Section title="What we ask, and why">
            <Note tone="know" title="A postal address in every letter">
              The law in most countries wants one. A box number will do; it need not be your home.
            </Note>
            <Note tone="know" title="A domain of your own">
              Mailboxes believe letters that its records vouch for. We change nothing there: you paste, we check.
            </Note>
          </Section>
          <Section title="Live already">
            <Note tone="fine" title="Your sign-up page">
              <a href={`${ctx.config.webOrigin}/at/${newsletter.slug}`} className="link break-all">
                {`${ctx.config.webOrigin}/at/${newsletter.slug}`.replace(/^https?:\/\//, '')}
              </a>
            </Note>
            <Note tone="know" title="Everywhere">
              Press <kbd className="rounded-sm border px-1 font-mono text-[12px]">?</kbd> for the keys, and Ctrl K to find
              anything.
            </Note>
          </Section>
        </>
      }
    >
      <Refreshing seconds={3} />
      <Standfirst title={`${greeting(data.now, newsletter.time_zone)}, ${person.name.split(' ')[0]}`}>
        {at < 0 ? (
          <>
            Everything stands. The next post that you publish becomes the first letter of {newsletter.name}
            {data.reading > 0 ? (
              <>
                , to <b>{counted(data.reading, 'reader', 'readers')}</b>
              </>
            ) : null}
            .
          </>
        ) : (
          <>
            {newsletter.name} can send its first letter in about <b>{counted(left, 'minute', 'minutes')}</b>. Each step stays
            done; come and go as you like.
          </>
        )}
      </Standfirst>
      <ol aria-label="Steps to the first letter" className="border-t">
        {steps.map((step, n) => {
          const here = n === at;
          return (
            <li
              key={step.title}
              aria-current={here ? 'step' : undefined}
              className={`grid grid-cols-[44px_1fr] gap-x-2 border-b py-4 ${here ? 'border-l-[3px] border-l-verdigris bg-sheet pr-4 pl-4' : ''}`}
            >
              <span
                className={`font-serif ${here ? 'text-[26px] leading-8 text-verdigris-ink' : 'text-[20px] leading-7 text-ink-3'}`}
              >
                {step.done === null ? n + 1 : <Check size={18} className="mt-1 text-verdigris" aria-label="Done" />}
              </span>
              <div className="min-w-0">
                <div className="flex items-baseline justify-between gap-3">
                  <h2 className={`font-serif ${here ? 'text-[22px] leading-7' : 'text-[19px] leading-7'}`}>{step.title}</h2>
                  <span className="shrink-0 text-[13px] text-ink-2">
                    {step.done === null ? `${step.minutes} min${step.mostlyWaiting ? ', mostly waiting' : ''}` : 'done'}
                  </span>
                </div>
                <p className="max-w-[44rem] text-ink-2">{step.done ?? step.words}</p>
                {here && <div className="mt-3">{step.acts}</div>}
              </div>
            </li>
          );
        })}
      </ol>
    </Screen>
  );
}

function stepsOf({ ctx, newsletter, person, data }: Props): Step[] {
  const { slug } = newsletter;
  const base = `/desk/${slug}`;
  const sender = data.senders.find((one) => one.state === 'confirmed') ?? data.senders[0];
  const domain = data.domains.find((one) => one.name === sender?.domain) ?? data.domains[0];
  const needed = domain?.records.filter((record) => record.needed) ?? [];
  const right = needed.filter((record) => holds(record.judgement?.verdict)).length;
  const rule = data.autoSends[0];
  const from = rule?.feeds[0]?.url ?? 'the pages written here';
  const line = data.form
    ? formCodes({ publicId: data.form.publicId, definition: data.form.definition, lists: [] }, ctx.config.linkOrigin)[0]!.code
    : '';
  return [
    {
      title: 'Who you are',
      done: [newsletter.name, sender?.name, newsletter.postal_address.split('\n')[0]].filter(Boolean).join(', '),
      words: '',
      minutes: 0,
      acts: null,
    },
    {
      title: 'Prove the sender',
      done: sender?.state === 'confirmed' ? `${sender.name} <${sender.address}>` : null,
      words: sender
        ? `We mailed a link to ${sender.address}${sender.proofSentAt ? ` ${ago(sender.proofSentAt, data.now)}` : ''}. Click it, and this page goes on by itself.`
        : 'The address that your letters come from, shown to be yours by a mailed link.',
      minutes: 1,
      acts: sender ? (
        <div className="flex flex-wrap items-center gap-3">
          <ActionButton
            action={sendProofAgain.bind(null, slug, sender.id)}
            done="Sent again. The newest link is the one that works."
          >
            Send it again
          </ActionButton>
          <span className="text-[13px] text-ink-2">
            Another address?{' '}
            <Link href={`${base}/delivery`} className="link">
              Change it
            </Link>
          </span>
        </div>
      ) : (
        <ActionForm action={makeSender.bind(null, slug)} submit="Add it" done="A link is on its way to that address.">
          <div className="grid max-w-xl gap-3 sm:grid-cols-2">
            <TextField name="name" label="Name" defaultValue={person.name} />
            <TextField name="address" type="email" label="Address" placeholder="letters@lanternfish.example" />
          </div>
        </ActionForm>
      ),
    },
    {
      title: 'Prove the domain',
      done: domain?.state === 'authenticated' ? `${domain.name}: letters are signed, aligned and believed` : null,
      words: domain
        ? `${counted(needed.length, 'record', 'records')} at the DNS host of ${domain.name}; ${right} of them ${plural(right, 'is', 'are')} right. Publish them, and go on with something else: we watch, and tell you by mail when they stand.`
        : 'Some records at its DNS host let mailboxes believe your letters.',
      minutes: 5,
      mostlyWaiting: true,
      acts: domain ? (
        <div className="flex flex-wrap items-center gap-3">
          <span className="rounded-md border bg-sheet px-2 py-1">
            <Copy
              text={zoneFile(domain.name, domain.records)}
              what="all records as a zone file"
              label="Copy all as a zone file"
            />
          </span>
          <ButtonLink href={`${base}/delivery/domains/${domain.id}`}>One by one</ButtonLink>
          <ActionDialog
            opens="Send them to whoever runs it"
            title={`Records for ${domain.name}`}
            words="One mail with every record, as words and as a zone file. Answers go to you."
            submit="Send"
            done="It is on its way."
            action={sendRecords.bind(null, slug, domain.id)}
          >
            <TextField name="to" type="email" label="Their address" />
          </ActionDialog>
          <ActionButton action={checkNow.bind(null, slug, domain.id)} done="Asked your name servers just now.">
            Check now
          </ActionButton>
        </div>
      ) : (
        <ActionForm action={makeDomain.bind(null, slug)} submit="Add it">
          <div className="max-w-sm">
            <TextField name="name" label="Domain" placeholder="lanternfish.example" mono />
          </div>
        </ActionForm>
      ),
    },
    {
      title: 'A form on your site',
      done: data.formsSeen ? 'It was seen on a page of yours' : null,
      words: data.form
        ? 'One is made in your colours. Paste one line where your pages end, then open a page; it finds the end of each article by itself.'
        : 'Make one, and paste its one line.',
      minutes: 2,
      acts: data.form ? (
        <>
          <pre
            data-code="script"
            // biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls has to be reachable with the keyboard (WCAG 2.1.1)
            tabIndex={0}
            className="mb-3 overflow-x-auto rounded-md border bg-paper p-2 font-mono text-[12px] break-all whitespace-pre-wrap"
          >
            {line}
          </pre>
          <div className="flex flex-wrap items-center gap-3">
            <span className="rounded-md border bg-sheet px-2 py-1">
              <Copy text={line} what="the line" label="Copy the line" />
            </span>
            <ButtonLink href={`${base}/forms/${data.form.id}`}>Look at the form</ButtonLink>
            <span className="text-[13px] text-ink-2">This page goes on once the form was shown on a page.</span>
          </div>
        </>
      ) : (
        <ButtonLink href={`${base}/forms`}>To the forms</ButtonLink>
      ),
    },
    {
      title: 'Try it yourself',
      done: data.tried ? 'You went the whole way from the form to the list' : null,
      words: 'Join as a reader would, and see each mail arrive.',
      minutes: 1,
      acts: data.form ? (
        <div className="max-w-md">
          <TryIt
            address={person.email}
            status={`${base}/forms/${data.form.id}/try`}
            start={tryForm.bind(null, slug, data.form.id)}
            end={endTry.bind(null, slug)}
          />
        </div>
      ) : (
        <ButtonLink href={`${base}/forms`}>To the forms</ButtonLink>
      ),
    },
    {
      title: 'Let new posts leave',
      done: rule?.switchedOnAt ? `${from} is watched` : null,
      words: rule
        ? `We found a feed at ${from.replace(/^https?:\/\//, '')}. From when you switch it on, each new post becomes a letter; nothing older does.`
        : 'Give us the address of your blog; each post that appears from then on becomes a letter.',
      minutes: 1,
      acts: rule ? (
        <ActionButton
          tone="main"
          action={switchOn.bind(null, slug, rule.id, true)}
          done="Switched on. New posts leave by themselves."
        >
          Switch it on
        </ActionButton>
      ) : sender && data.listId ? (
        <ActionForm action={lookForFeeds.bind(null, slug)} submit="Look for its feed">
          <div className="max-w-md">
            <TextField name="feedUrl" inputMode="url" label="Address of your blog" placeholder="lanternfish.example" />
          </div>
        </ActionForm>
      ) : (
        <ButtonLink href={`${base}/delivery`}>Add a sender first</ButtonLink>
      ),
    },
  ];
}
