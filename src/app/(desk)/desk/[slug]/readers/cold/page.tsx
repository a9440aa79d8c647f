import type { Metadata } from 'next';
import Link from 'next/link';
import { counted, figure, percent } from '@/core/growth/figures';
import { wordOf } from '@/core/growth/measures';
import { longDay, spokenTime } from '@/core/growth/times';
import { ANSWER_DAYS, COLD_DAYS, COLD_WORDS, coldFor, SHARE_OF, type Share, silentAfter } from '@/core/readers/cold';
import { readView, writeView } from '@/core/readers/view';
import { type Asking, askingOf } from '@/server/keeping/cold';
import { coldShare } from '@/server/keeping/cold-counts';
import { sendersOf } from '@/server/senders/senders';
import { ActionButton, ChoiceField, LongField, TextField } from '@/ui/kit/action-form';
import { ActionDialog } from '@/ui/kit/dialog';
import { Empty, Note, Screen, Section, Standfirst } from '@/ui/kit/page';
import { Table } from '@/ui/kit/table';
import { deskOf } from '../../../../../desk';
import { ask, leaveThem, release } from './actions';

export const metadata: Metadata = { title: 'Cold readers' };

type Props = { params: Promise<{ slug: string }>; searchParams: Promise<{ days?: string | string[] }> };

export default async function Page({ params, searchParams }: Props) {
  const { slug } = await params;
  const asked = Number((await searchParams).days);
  const { ctx, newsletter } = await deskOf(slug);
  const asking = await askingOf(ctx, newsletter);
  const days = asking ? COLD_DAYS.find((one) => one === asking.days)! : (COLD_DAYS.find((one) => one === asked) ?? 180);
  const [{ all, cold, rest, countedAt }, senders] = await Promise.all([
    coldShare(ctx, newsletter, days),
    sendersOf(ctx, newsletter),
  ]);
  const asCounted = countedAt && `, as counted ${spokenTime(countedAt, ctx.clock.now(), newsletter.time_zone)}`;
  const many = `${countedAt ? 'about ' : ''}${counted(cold.people, 'person', 'people')}`;
  const base = `/desk/${slug}/readers`;
  const seen = `${base}?${writeView({ ...readView({}), where: asking?.letterId ? silentAfter(asking.letterId, days) : coldFor(days) })}`;
  return (
    <Screen
      margin={
        <>
          <Note tone="know" title="Who is not among them">
            Whose letters are opened by machines alone: they may read all of them. And whoever got fewer than six letters.
          </Note>
          <Note tone="know" title="Why ask at all">
            Mailbox providers look at how many read what you send. Letters that nobody opens make it likelier that the others are
            taken for junk.
          </Note>
          <Note tone="look" title="Nobody is erased">
            Whoever is let go is taken off every list, keeps their record, and comes back by the link in the question or by any
            form. For a week you can take it back.
          </Note>
        </>
      }
    >
      <Standfirst title="Cold readers" trail={[{ label: 'Readers', href: base }]}>
        {cold.people === 0 ? (
          <>
            Nobody who reads your letters by their standing has been silent for {COLD_WORDS[days]}
            {asCounted}.
          </>
        ) : (
          <>
            <b>{counted(cold.people, 'person has', 'people have')}</b> opened nothing and followed no link for {COLD_WORDS[days]},
            of {figure(all.people)} who read by their standing{asCounted}.
          </>
        )}
      </Standfirst>
      {!asking && (
        <nav aria-label="For how long" className="mb-5 flex flex-wrap gap-x-6 border-b">
          {COLD_DAYS.map((one) => (
            <Link
              key={one}
              href={`${base}/cold?days=${one}`}
              aria-current={one === days ? 'page' : undefined}
              className="-mb-px border-b-2 border-transparent py-2 text-[14px] text-ink-2 hover:text-ink aria-[current]:border-ink aria-[current]:font-semibold aria-[current]:text-ink"
            >
              Silent for {COLD_WORDS[one]}
            </Link>
          ))}
        </nav>
      )}
      {asking && <Out asking={asking} slug={slug} now={ctx.clock.now()} zone={newsletter.time_zone} />}
      {cold.people === 0 && !asking ? (
        <Empty title="Nobody is cold for so long">There is nothing to clean up. Look again in some months.</Empty>
      ) : (
        <>
          <Section title="What it would do to your figures">
            <Table
              label="What it would do to your figures"
              columns={[{ title: 'What' }, { title: 'Now', figure: true }, { title: 'Without them', figure: true }]}
              rows={[
                { key: 'people', cells: [wordOf('reading'), figure(all.people), figure(rest.people)] },
                { key: 'read', cells: [wordOf('lettersRead'), shareSaid(all), shareSaid(rest)] },
              ]}
            />
            <p className="mt-2 text-small text-ink-2">
              {wordOf('lettersRead')}: of the last {SHARE_OF} letters that each of them got, as far as a person can be told from a
              machine.{' '}
              <Link className="link" href={seen}>
                See who they are
              </Link>
            </p>
          </Section>
          {!asking && (
            <Section title="Ask them once more" className="mt-8">
              {senders.length === 0 ? (
                <p className="mt-2 text-ink-2">A letter needs a sender first. Add one under Delivery.</p>
              ) : (
                <>
                  <p className="mt-2 mb-3 max-w-2xl">
                    A letter of its own with one button. Whoever presses it, or opens anything, stays by themselves. Nobody is let
                    go before {ANSWER_DAYS} days after it, and then only when you say so.
                  </p>
                  <ActionDialog
                    opens={`Ask ${many} …`}
                    title={`Ask ${many}?`}
                    words={`It leaves at once${countedAt ? ', to whoever is as cold at that moment' : ''}.`}
                    submit={`Send it to ${many}`}
                    done="The question is on its way"
                    action={ask.bind(null, slug, days)}
                  >
                    <ChoiceField
                      name="senderId"
                      label="From"
                      defaultValue={newsletter.default_sender_id ?? undefined}
                      choices={senders.map((one) => ({ value: one.id, label: `${one.name} <${one.address}>` }))}
                    />
                    <TextField name="subject" label="Subject" defaultValue="Shall these letters go on?" />
                    <LongField
                      name="words"
                      label="What it says"
                      rows={6}
                      defaultValue={`You have not opened ${newsletter.name} for a long while, as far as we can tell.\n\nIf you would like it to go on, press the button. If not, you need do nothing: after two weeks the letters may stop.`}
                    />
                    <TextField name="button" label="Button" defaultValue="Yes, let it come" />
                  </ActionDialog>
                </>
              )}
            </Section>
          )}
        </>
      )}
    </Screen>
  );
}

const shareSaid = (share: Share) => percent(share.read, share.letters);

function Out({ asking, slug, now, zone }: { asking: Asking; slug: string; now: Date; zone: string }) {
  const { asked, silent, readyAt, ready, countedAt } = asking;
  const many = `${countedAt ? 'about ' : ''}${counted(silent, 'person', 'people')}`;
  return (
    <Section title="The question is out" className="mb-8">
      <p className="mt-2">
        {asked === 0 ? 'Nobody has got it so far. ' : `${counted(asked, 'person', 'people')} got it; `}
        {asked > 0 && (
          <b>
            {counted(silent, 'is', 'are')} as silent as before
            {countedAt && `, as counted ${spokenTime(countedAt, now, zone)}`}.
          </b>
        )}{' '}
        {asking.letterId && (
          <Link className="link" href={`/desk/${slug}/letters/${asking.letterId}`}>
            See the letter
          </Link>
        )}
      </p>
      <p className="mt-1 text-ink-2">
        Asked by {asking.by}, {spokenTime(asking.beganAt, now, zone)}.{' '}
        {readyAt === null
          ? 'The letter is still on its way.'
          : ready
            ? 'The time to answer is over.'
            : `They have until ${longDay(readyAt, zone)} to answer.`}
      </p>
      <div className="mt-3 flex flex-wrap gap-2.5">
        {ready && silent > 0 && (
          <ActionDialog
            opens={`Let ${many} go …`}
            title={`Let ${many} go?`}
            words="They are taken off every list, and no letter comes to them any more. For a week you can take it back among Readers; whoever presses the button in the question comes back by themselves."
            submit="Let them go"
            done="They are being let go"
            tone="harm"
            action={release.bind(null, slug)}
          />
        )}
        <ActionButton action={leaveThem.bind(null, slug)} done="Ended; everybody stays">
          {ready && silent === 0 ? 'End it' : 'End it and keep everybody'}
        </ActionButton>
      </div>
    </Section>
  );
}
