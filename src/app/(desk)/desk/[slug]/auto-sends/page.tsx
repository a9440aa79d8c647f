import type { Metadata } from 'next';
import Link from 'next/link';
import { choicesWords, holdsWords, rhythmInPlace, zonePlace } from '@/core/autosend/tell-rule';
import { counted, figure, plural, together } from '@/core/growth/figures';
import { ago, dayAndHour, spokenTime } from '@/core/growth/times';
import { rulesOf } from '@/server/autosend/coming';
import { listsOf } from '@/server/readers/readers';
import { sendersOf } from '@/server/senders/senders';
import { ActionForm, FileField, TextField } from '@/ui/kit/action-form';
import { ButtonLink } from '@/ui/kit/button';
import { ActionDialog } from '@/ui/kit/dialog';
import { Chip, Empty, Note, Screen, Section, Sheet, Standfirst } from '@/ui/kit/page';
import { Refreshing } from '@/ui/kit/refreshing';
import { deskOf } from '../../../../desk';
import { connectOpml, connectOwn, lookForFeeds } from './actions';
import { Ways } from './ways';

export const metadata: Metadata = { title: 'Auto-sends' };

export default async function Page({ params }: { params: Promise<{ slug: string }> }) {
  const { slug } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const [rules, senders, lists] = await Promise.all([
    rulesOf(ctx, newsletter),
    sendersOf(ctx, newsletter),
    listsOf(ctx, newsletter),
  ]);
  const now = ctx.clock.now();
  const running = rules.filter((rule) => rule.switchedOnAt && !rule.pausedAt);
  const ways = <Ways senders={senders} lists={lists} senderId={newsletter.default_sender_id} />;
  return (
    <Screen
      margin={
        <>
          {senders.length > 0 && (
            <Section title="Connect a blog">
              <Sheet className="mt-3">
                <ActionForm
                  action={lookForFeeds.bind(null, slug)}
                  submit="Look for its feed"
                  tone={rules.length ? 'plain' : 'main'}
                >
                  <TextField
                    name="feedUrl"
                    inputMode="url"
                    label="Address of your blog"
                    placeholder="lanternfish.example"
                    hint="Any page of it, or its feed (RSS, Atom or JSON Feed)."
                  />
                </ActionForm>
              </Sheet>
              <div className="mt-3 flex flex-wrap gap-x-4 gap-y-2 text-[13px]">
                <ActionDialog
                  opens="Pages written here"
                  opensTone="quiet"
                  title="Mail the pages written here"
                  words="What you publish as a page alone is a source like a blog: each new page becomes part of a letter."
                  submit="Make the rule"
                  action={connectOwn.bind(null, slug)}
                >
                  {ways}
                </ActionDialog>
                <ActionDialog
                  opens="Several from a file"
                  opensTone="quiet"
                  title="Connect the blogs of a file"
                  words="An OPML file, as feed readers keep their lists. Its feeds are the sources of one rule."
                  submit="Make the rule"
                  action={connectOpml.bind(null, slug)}
                >
                  <FileField name="file" label="OPML file" accept=".opml,.xml,text/x-opml" />
                  {ways}
                </ActionDialog>
                {rules.length > 0 && (
                  <a href={`/desk/${slug}/auto-sends/opml`} className="link font-medium">
                    All feeds as a file
                  </a>
                )}
              </div>
            </Section>
          )}
          <Note tone="know" title="What is never mailed">
            Whatever stands in a blog when you switch on. Only posts that appear afterwards become letters, each once; more at
            once than is usual there wait for your word.
          </Note>
        </>
      }
    >
      <Refreshing seconds={8} />
      <Standfirst title="Auto-sends">
        {running.length === 0 ? (
          <>A rule that sends by itself: new posts of your blog become letters, one by one or gathered, without a hand on it.</>
        ) : (
          <>
            <b>{counted(running.length, 'rule runs', 'rules run')}</b> by {plural(running.length, 'itself', 'themselves')}. What
            each would send next stands under it.
          </>
        )}
      </Standfirst>
      {rules.length === 0 && (
        <Empty
          title="No blog is connected yet"
          action={
            senders.length === 0 ? (
              <ButtonLink tone="main" href={`/desk/${slug}/delivery`}>
                Add a sender first
              </ButtonLink>
            ) : undefined
          }
        >
          {senders.length === 0 ? 'A letter needs somebody it comes from.' : 'Paste the address of your blog on the right.'}
        </Empty>
      )}
      {rules.map((rule) => {
        const base = `/desk/${slug}/auto-sends/${rule.id}`;
        const next = rule.coming.find((run) => run.posts.some((post) => post.fate === 'in')) ?? rule.coming[0];
        const titles = next?.posts.filter((post) => post.fate === 'in').map((post) => `“${post.title}”`) ?? [];
        const faults = rule.feeds.filter((feed) => feed.fault);
        const polled = rule.feeds.flatMap((feed) => (feed.polledAt ? [feed.polledAt] : []));
        return (
          <section key={rule.id} id={rule.id} tabIndex={-1} aria-label={rule.name} className="mb-6 border-b border-rule-2 pb-6">
            <div className="flex flex-wrap items-baseline justify-between gap-x-4">
              <h2 className="min-w-0 font-serif text-[22px] leading-8 break-words">
                <Link href={base} className="hover:underline">
                  {rule.name}
                </Link>
              </h2>
              <span className="text-small text-ink-2">
                {!rule.switchedOnAt ? (
                  <Chip tone="know">off</Chip>
                ) : rule.pausedAt ? (
                  <Chip tone="look">paused</Chip>
                ) : (
                  <Chip tone="fine">on</Chip>
                )}{' '}
                {polled.length > 0 && `looked ${ago(new Date(Math.max(...polled.map(Number))), now)}`}
              </span>
            </div>
            <p className="mt-1 max-w-[52rem] font-serif text-standfirst text-ink-2">
              New posts of {together(rule.feeds.map((feed) => feed.title))} go out {rhythmInPlace(rule.settings)}
              {rule.settings.choices && `, ${choicesWords(rule.settings).replace('unless they', 'unless readers')}`}, from{' '}
              {rule.sender.name}, as {holdsWords(rule.settings)} in the layout {rule.layout.name}.
            </p>
            <p className="mt-2 text-[13.5px]">
              {rule.held.length > 0 ? (
                <b>{counted(rule.held.length, 'new post waits', 'new posts wait')} for your word.</b>
              ) : rule.open.some((one) => one.state === 'draft') ? (
                <b>{counted(rule.open.length, 'draft waits', 'drafts wait')} for somebody to let it go.</b>
              ) : !rule.switchedOnAt ? (
                'It sends nothing until you switch it on.'
              ) : rule.pausedAt ? (
                `Paused ${spokenTime(rule.pausedAt, now, newsletter.time_zone)}; ${counted(rule.waiting, 'post has', 'posts have')} gathered since.`
              ) : next && titles.length > 0 ? (
                <>
                  Next{' '}
                  {next.at ? `${dayAndHour(next.at, rule.settings.zone)} (${zonePlace(rule.settings.zone)})` : 'once enough wait'}
                  : {together(titles)}, to {figure(next.people)}.
                </>
              ) : next?.at ? (
                `Next ${dayAndHour(next.at, rule.settings.zone)} (${zonePlace(rule.settings.zone)}): nothing yet, and so no letter.`
              ) : (
                'Nothing waits: the next post becomes the next letter.'
              )}{' '}
              <Link href={base} className="link font-medium">
                Open it
              </Link>
            </p>
            {rule.switchedOnAt &&
              faults.map((feed) => (
                <Note key={feed.id} tone="look" title={feed.fault!}>
                  {feed.nextPollAt
                    ? `Nothing is lost: we ask ${feed.title} again ${spokenTime(feed.nextPollAt, now, newsletter.time_zone)}.`
                    : 'Connect the blog anew, by any address of it; its posts so far are not mailed again.'}
                </Note>
              ))}
          </section>
        );
      })}
    </Screen>
  );
}
