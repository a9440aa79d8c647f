import type { Metadata } from 'next';
import { counted } from '@/core/growth/figures';
import { ago, fullTime, spokenTime } from '@/core/growth/times';
import { newPostsOf } from '@/server/autosend/new-posts';
import { layoutsOf } from '@/server/newsletters/layouts';
import { listsOf } from '@/server/readers/readers';
import { sendersOf } from '@/server/senders/senders';
import { ActionButton, ActionForm, TextField } from '@/ui/kit/action-form';
import { ButtonLink } from '@/ui/kit/button';
import { ActionDialog } from '@/ui/kit/dialog';
import { Chip, Empty, Note, Screen, Section, Sheet, Standfirst } from '@/ui/kit/page';
import { Refreshing } from '@/ui/kit/refreshing';
import { deskOf } from '../../../../desk';
import { changeRule, decide, decideAll, lookForFeeds, switchRule } from './actions';
import { Ways } from './ways';

export const metadata: Metadata = { title: 'Auto-sends' };

const BECAME = {
  before: 'was there before',
  mailed: 'became a letter',
  held: 'waits for you',
  'left out': 'was left out',
};

export default async function Page({ params }: { params: Promise<{ slug: string }> }) {
  const { slug } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const [rules, senders, lists, layouts] = await Promise.all([
    newPostsOf(ctx, newsletter),
    sendersOf(ctx, newsletter),
    listsOf(ctx, newsletter),
    layoutsOf(ctx, newsletter),
  ]);
  const now = ctx.clock.now();
  const running = rules.filter((rule) => rule.switchedOnAt);
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
            </Section>
          )}
          <Note tone="know" title="What is never mailed">
            Whatever stands in the feed when you switch on. Only posts that appear afterwards become letters, each once; more than
            five at one look wait for your word.
          </Note>
        </>
      }
    >
      <Refreshing seconds={8} />
      <Standfirst title="Auto-sends">
        {running.length === 0 ? (
          <>A rule that sends by itself: each new post of your blog becomes a letter, without a hand on it.</>
        ) : (
          <>
            <b>{counted(running.length, 'blog is', 'blogs are')} watched</b>. Each new post becomes a letter within minutes, by
            itself.
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
      {rules.map((rule) => (
        <Section
          key={rule.id}
          id={rule.id}
          title={`New posts: ${rule.name}`}
          aside={rule.polledAt ? `looked ${ago(rule.polledAt, now)}` : 'not looked at yet'}
        >
          <div className="flex flex-wrap items-start justify-between gap-4 py-3">
            <dl className="grid grid-cols-[6rem_1fr] gap-x-3 gap-y-1">
              <dt className="text-ink-2">Feed</dt>
              <dd className="font-mono text-[13px] break-all">{rule.feedUrl}</dd>
              <dt className="text-ink-2">From</dt>
              <dd>{rule.senderName}</dd>
              <dt className="text-ink-2">To</dt>
              <dd>everyone reading “{rule.listName}”</dd>
              <dt className="text-ink-2">Layout</dt>
              <dd>{rule.layoutName}</dd>
              <dt className="text-ink-2">State</dt>
              <dd>
                {rule.switchedOnAt ? (
                  <>
                    <Chip tone="fine">on</Chip> since {spokenTime(rule.switchedOnAt, now, newsletter.time_zone)}
                  </>
                ) : (
                  <Chip tone="know">off</Chip>
                )}
              </dd>
            </dl>
            <div className="flex flex-wrap gap-2">
              <ActionDialog
                opens="Change"
                label={`Change new posts: ${rule.name}`}
                title={`New posts: ${rule.name}`}
                words="Letters made already keep the sender, the list and the layout they have."
                submit="Save"
                done="Saved"
                action={changeRule.bind(null, slug, rule.id)}
              >
                <Ways
                  senders={senders}
                  lists={lists}
                  senderId={rule.senderId}
                  listId={rule.listId}
                  layouts={layouts}
                  layoutId={rule.layoutId}
                />
              </ActionDialog>
              <ActionButton
                tone={rule.switchedOnAt ? 'plain' : 'main'}
                action={switchRule.bind(null, slug, rule.id, !rule.switchedOnAt)}
                done={rule.switchedOnAt ? 'Switched off. Nothing more is sent.' : 'Switched on. New posts leave by themselves.'}
              >
                {rule.switchedOnAt ? 'Switch off' : 'Switch on'}
              </ActionButton>
            </div>
          </div>
          {rule.fault && rule.switchedOnAt && (
            <Note tone="look" title={rule.fault}>
              {rule.nextPollAt
                ? `Nothing is lost: we ask again ${spokenTime(rule.nextPollAt, now, newsletter.time_zone)}.`
                : 'Connect the blog anew, by any address of it; its posts so far are not mailed again.'}
            </Note>
          )}
          {rule.held.length > 0 && (
            <Note tone="look" title={`${rule.held.length} new posts came at once, so none of them has left`}>
              <p>
                The newest is “{rule.held[0]}”. So many letters in a day is more than most readers want; what you leave out can
                still be read on your site.
              </p>
              <div className="mt-3 flex flex-wrap gap-2">
                <ActionButton action={decide.bind(null, slug, rule.id, 'newest')} done="The newest becomes a letter now.">
                  Mail the newest
                </ActionButton>
                <ActionButton action={decide.bind(null, slug, rule.id, 'none')} done="None of them is mailed.">
                  Mail none
                </ActionButton>
                <ActionDialog
                  opens={`Mail all ${rule.held.length}`}
                  title={`Mail ${rule.held.length} letters now?`}
                  words={`Everyone reading “${rule.listName}” gets each of them, one after the other.`}
                  submit={`Mail all ${rule.held.length}`}
                  done="Each of them becomes a letter now."
                  action={decideAll.bind(null, slug, rule.id)}
                />
              </div>
            </Note>
          )}
          {rule.items.length > 0 && (
            <ul aria-label="Newest posts" className="mt-2">
              {rule.items.map((item) => (
                <li key={item.key} className="flex flex-wrap items-baseline justify-between gap-x-4 border-t border-rule-2 py-2">
                  {item.link ? (
                    <a href={item.link} className="min-w-0 hover:underline">
                      {item.title}
                    </a>
                  ) : (
                    <span className="min-w-0">{item.title}</span>
                  )}
                  <span className="text-small text-ink-2" title={fullTime(item.at, newsletter.time_zone)}>
                    {spokenTime(item.at, now, newsletter.time_zone)}, {BECAME[item.state]}
                  </span>
                </li>
              ))}
            </ul>
          )}
        </Section>
      ))}
    </Screen>
  );
}
