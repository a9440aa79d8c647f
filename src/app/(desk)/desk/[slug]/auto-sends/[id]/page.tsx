import type { Metadata } from 'next';
import Link from 'next/link';
import type { RuleWords } from '@/core/autosend/rule';
import { zonePlace } from '@/core/autosend/tell-rule';
import { counted, figure, together } from '@/core/growth/figures';
import { ago, dayAndHour, fullTime, spokenTime } from '@/core/growth/times';
import { type ComingRun, pastPosts, type RuleView, type RunView, ruleOf, runsOf } from '@/server/autosend/coming';
import { layoutsOf } from '@/server/newsletters/layouts';
import { choicesOf } from '@/server/readers/choices';
import { facetsOf } from '@/server/readers/table';
import { sendersOf } from '@/server/senders/senders';
import { RuleSentence } from '@/ui/autosend/rule-sentence';
import { ActionButton, ActionForm, ChoiceField, TextField } from '@/ui/kit/action-form';
import { ActionDialog } from '@/ui/kit/dialog';
import { Chip, Note, Screen, Section } from '@/ui/kit/page';
import { Refreshing } from '@/ui/kit/refreshing';
import { deskOf, orNotFound } from '../../../../../desk';
import {
  addSource,
  decide,
  goOnWith,
  keepRule,
  leavePost,
  pause,
  prove,
  removeRule,
  removeSource,
  renameRule,
  runRuleNow,
  skip,
  switchOn,
  tellReaders,
} from '../actions';

type Props = { params: Promise<{ slug: string; id: string }> };
export const metadata: Metadata = { title: 'An auto-send' };

const WHICH = [
  { value: 'together', label: 'All of them, in one letter' },
  { value: 'all', label: 'All of them, as the rule has it' },
  { value: 'newest', label: 'The newest alone' },
  { value: 'none', label: 'None of them' },
];

export default async function Page({ params }: Props) {
  const { slug, id } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const rule = await orNotFound(ruleOf(ctx, newsletter, id));
  const [all, runs, facets, senders, layouts] = await Promise.all([
    pastPosts(ctx, newsletter, id),
    runsOf(ctx, id),
    facetsOf(ctx, newsletter),
    sendersOf(ctx, newsletter),
    layoutsOf(ctx, newsletter),
  ]);
  const choices = await choicesOf(ctx, newsletter, facets);
  // What was mailed at one rhythm may still be to come at another.
  const ahead = new Set(rule.coming.flatMap((run) => run.posts.filter((post) => post.fate === 'in').map((post) => post.itemId)));
  const past = all.filter((post) => !ahead.has(post.itemId));
  const now = ctx.clock.now();
  const zone = newsletter.time_zone;
  const base = `/desk/${slug}/auto-sends`;
  const words: RuleWords = {
    name: rule.name,
    settings: rule.settings,
    audience: rule.audience,
    senderId: rule.sender.id,
    layoutId: rule.layout.id,
    intro: rule.intro,
  };
  const on = rule.switchedOnAt !== null;
  return (
    <Screen margin={<Margin slug={slug} rule={rule} words={words} now={now} zone={zone} />}>
      <Refreshing seconds={8} />
      <header className="mb-6">
        <nav aria-label="Where you are" className="text-small text-ink-2">
          <Link href={base} className="link">
            Auto-sends
          </Link>{' '}
          /
        </nav>
        <h1 className="font-serif text-title break-words">{rule.name}</h1>
      </header>
      {/* Made anew once something else than what stands in it has changed: a source, or who it is for by a merge. */}
      <RuleSentence
        key={rule.feeds.map((feed) => feed.id).join()}
        rule={words}
        sources={rule.feeds.map((feed) => feed.title)}
        sourcePanel={
          <>
            <ul>
              {rule.feeds.map((feed) => (
                <li key={feed.id} className="flex items-baseline justify-between gap-3 border-b border-rule-2 py-1.5">
                  <span className="min-w-0">
                    <b className="block font-semibold break-words">{feed.title}</b>
                    <span className="font-mono text-[12px] break-all text-ink-2">{feed.url ?? 'the pages written here'}</span>
                  </span>
                  {rule.feeds.length > 1 && (
                    <ActionButton action={removeSource.bind(null, slug, id, feed.id)} done="It is a source no more.">
                      Take out
                    </ActionButton>
                  )}
                </li>
              ))}
            </ul>
            <ActionForm action={addSource.bind(null, slug, id)} submit="Add a source" tone="plain" clears>
              <TextField
                name="feedUrl"
                inputMode="url"
                label="Address of another blog"
                hint="Any page of it. Left empty: the pages written here."
              />
            </ActionForm>
          </>
        }
        topics={[...new Set(rule.feeds.flatMap((feed) => feed.topics))]}
        authors={[...new Set(rule.feeds.flatMap((feed) => feed.authors))]}
        choices={choices}
        senders={senders.map((one) => ({ id: one.id, name: `${one.name} <${one.address}>` }))}
        layouts={layouts.map((one) => ({ id: one.id, name: one.name }))}
        atOnce={Math.max(...rule.feeds.map((feed) => feed.atOnce))}
        keep={keepRule.bind(null, slug, id)}
      />
      {rule.also.length > 0 && (
        <Note tone="look" title={`${together(rule.also)} ${rule.also.length > 1 ? 'mail' : 'mails'} posts of the same source`}>
          Whoever is in the audience of both gets a post from each.
        </Note>
      )}
      {rule.held.length > 0 && (
        <Note tone="look" title={`${rule.held.length} new posts came at once, so none of them has left`}>
          <p>
            The newest is “{rule.held[0]}”. That is more than is usual there. What you leave out can still be read on your site.
          </p>
          <div className="mt-3 flex flex-wrap gap-2">
            <ActionButton action={decide.bind(null, slug, id, 'newest')} done="The newest goes with the next run.">
              Mail the newest
            </ActionButton>
            <ActionButton action={decide.bind(null, slug, id, 'none')} done="None of them is mailed.">
              Mail none
            </ActionButton>
            <ActionButton action={decide.bind(null, slug, id, 'together')} done="They go together, in one letter.">
              All in one letter
            </ActionButton>
            <ActionDialog
              opens={`Mail all ${rule.held.length}`}
              title={`Mail all ${rule.held.length} posts?`}
              words="They go as the rule has it: each in its own letter where it sends post by post, one letter after the other."
              submit={`Mail all ${rule.held.length}`}
              done="All of them go."
              action={decide.bind(null, slug, id, 'all')}
            />
          </div>
        </Note>
      )}
      {on &&
        rule.feeds
          .filter((feed) => feed.fault)
          .map((feed) => (
            <Note key={feed.id} tone="look" title={feed.fault!}>
              {feed.nextPollAt
                ? `Nothing is lost: we ask ${feed.title} again ${spokenTime(feed.nextPollAt, now, zone)}.`
                : 'Connect the blog anew, by any address of it; its posts so far are not mailed again.'}
            </Note>
          ))}
      <Section title="The next five" aside="what each would hold, and why" className="mt-8">
        {!on ? (
          <p className="py-3 text-ink-2">
            It is off. Once you switch it on, what appears in the blog after that moment stands here.
          </p>
        ) : rule.pausedAt ? (
          <p className="py-3 text-ink-2">
            Paused {spokenTime(rule.pausedAt, now, zone)}. {counted(rule.waiting, 'post has', 'posts have')} gathered since; going
            on asks what becomes of them.
          </p>
        ) : (
          <ol aria-label="The next five">
            {rule.open.map((one) => (
              <li
                key={one.letterId}
                className="grid grid-cols-[7.5rem_1fr_auto] gap-x-4 border-b border-rule-2 py-3.5 max-sm:grid-cols-1"
              >
                <span className="font-semibold">{one.state === 'draft' ? 'a draft' : 'leaving'}</span>
                <span>
                  <Link href={`/desk/${slug}/letters/${one.letterId}`} className="font-semibold hover:underline">
                    {one.subject}
                  </Link>
                  <span className="block text-small text-ink-2">
                    {one.approveBy
                      ? `waits for somebody to let it go by ${fullTime(one.approveBy, rule.settings.zone)}${rule.settings.approval?.otherwise === 'drop' ? '; if nobody does, it does not leave' : '; if nobody does, it leaves then'}`
                      : (one.cause ?? 'on its way out')}
                  </span>
                </span>
                <span>
                  <Chip tone={one.state === 'draft' || one.state === 'held' ? 'look' : 'fine'}>
                    {one.state === 'draft' ? 'waits for you' : one.state}
                  </Chip>
                </span>
              </li>
            ))}
            {rule.coming.map((run, n) => (
              <Coming
                key={`${run.lane}-${run.at?.getTime() ?? n}`}
                run={run}
                slug={slug}
                rule={rule}
                turn={rule.coming.slice(0, n).filter((one) => one.lane === run.lane).length}
                now={now}
              />
            ))}
            {rule.coming.length === 0 && rule.open.length === 0 && (
              <li className="py-3 text-ink-2">
                <b className="text-ink">nothing yet</b> The next post stands here as soon as we read it.
              </li>
            )}
          </ol>
        )}
      </Section>
      <Section title="Not in any of them">
        {past.length === 0 ? (
          <p className="py-3 text-ink-2">Nothing: the blog has not been read yet, or has no other post.</p>
        ) : (
          <ul aria-label="Not in any of them">
            {past.map((post) => (
              <li
                key={post.itemId}
                className="grid grid-cols-[minmax(0,15rem)_1fr] gap-x-4 border-b border-rule-2 py-2.5 max-sm:grid-cols-1"
              >
                {post.link ? (
                  <a href={post.link} className="font-semibold break-words hover:underline">
                    {post.title}
                  </a>
                ) : (
                  <span className="font-semibold break-words">{post.title}</span>
                )}
                <span className="text-ink-2">
                  {post.why}{' '}
                  {post.act === 'tell' && (
                    <ActionButton action={tellReaders.bind(null, slug, id, post.itemId)}>Tell readers</ActionButton>
                  )}
                  {post.act === 'take in' && (
                    <ActionButton action={leavePost.bind(null, slug, id, post.itemId, false)} done="It goes with the next run.">
                      Take it in
                    </ActionButton>
                  )}
                </span>
              </li>
            ))}
          </ul>
        )}
      </Section>
      <Section title="Runs so far" aside={runs.length ? 'the newest first' : undefined}>
        {runs.length === 0 ? (
          <p className="py-3 text-ink-2">None yet.</p>
        ) : (
          <ul aria-label="Runs so far">
            {runs.map((run) => (
              <Run key={run.id} run={run} slug={slug} rule={rule} />
            ))}
          </ul>
        )}
      </Section>
    </Screen>
  );
}

const STATES: Record<ComingRun['state'], { words: string; tone: 'fine' | 'know' | 'look' }> = {
  ready: { words: 'ready', tone: 'fine' },
  gathering: { words: 'gathering', tone: 'know' },
  nothing: { words: 'would skip', tone: 'know' },
  skipped: { words: 'skipped', tone: 'look' },
};

function Coming({ run, slug, rule, turn, now }: { run: ComingRun; slug: string; rule: RuleView; turn: number; now: Date }) {
  const inIt = run.posts.filter((post) => post.fate === 'in');
  const outside = run.posts.filter((post) => post.fate !== 'in');
  const { words, tone } = STATES[run.state];
  const of = `/desk/${slug}/auto-sends/${rule.id}`;
  const zone = rule.settings.zone;
  const [day, hour] = run.at ? [dayOf(run.at, zone), dayAndHour(run.at, zone).split(' ')[1]] : ['', ''];
  return (
    <li className="grid grid-cols-[7.5rem_1fr_auto_auto] items-start gap-x-4 border-b border-rule-2 py-3.5 max-sm:grid-cols-1">
      <span>
        <b className="block font-semibold">{run.at ? (run.at <= now ? 'now' : day) : 'once enough wait'}</b>
        {run.at && run.at > now && <span className="text-small text-ink-2">{hour}</span>}
      </span>
      <span className="min-w-0">
        {inIt.length === 0 ? (
          <>
            <b className="font-semibold">nothing yet</b>{' '}
            {run.state === 'skipped' ? 'its posts wait for the one after' : turn === 0 ? 'no letter if it stays so' : ''}
          </>
        ) : (
          <>
            <b className="font-semibold">
              {counted(inIt.length, 'post', 'posts')}
              {run.state === 'gathering' ? ' so far' : ''}
            </b>{' '}
            <span className="break-words">{together(inIt.map((post) => `“${post.title}”`))}</span>
          </>
        )}
        {(inIt.length > 0 || rule.people.length > 1) && (
          <span className="block text-small text-ink-2">
            to {rule.exact ? '' : 'about '}
            {figure(run.people)} who get it {run.words}
          </span>
        )}
        {run.posts.length > 0 && turn === 0 && (
          <details className="mt-1 text-small text-ink-2">
            <summary className="cursor-pointer">why</summary>
            <ul className="mt-1 space-y-1">
              {[...inIt, ...outside].map((post) => (
                <li key={post.itemId} className="flex flex-wrap items-baseline gap-x-2">
                  <b className="font-semibold text-ink">{post.title}</b> {post.why}
                  {['in', 'editing', 'ahead', 'over', 'held'].includes(post.fate) && (
                    <ActionButton action={leavePost.bind(null, slug, rule.id, post.itemId, true)} done="It is left out.">
                      Leave out
                    </ActionButton>
                  )}
                </li>
              ))}
            </ul>
          </details>
        )}
      </span>
      <span>
        <Chip tone={tone}>{words}</Chip>
      </span>
      <span className="flex min-w-[9rem] flex-wrap items-baseline gap-x-1.5 text-[13px]">
        {inIt.length > 0 && (
          <>
            <Link href={`${of}/look?lane=${run.lane}&turn=${turn}`} className="link font-medium">
              Look
            </Link>
            <span aria-hidden>·</span>
            <ActionDialog
              opens="Proof"
              opensTone="quiet"
              title="Send a proof of it"
              words="As it would be now. That it is a proof stands over it; nothing of it is counted."
              submit="Send the proof"
              action={prove.bind(null, slug, rule.id, run.lane, turn)}
            >
              <TextField name="to" label="To" type="text" placeholder="you@lanternfish.example" />
            </ActionDialog>
          </>
        )}
        {turn === 0 && run.at && run.at > now && run.byHour && run.state !== 'skipped' && inIt.length > 0 && (
          <>
            <span aria-hidden>·</span>
            <ActionDialog
              opens="Skip"
              opensTone="quiet"
              title={`Skip ${day} ${hour}?`}
              words="Its posts wait for the one after."
              submit="Skip it"
              done="Skipped."
              action={skip.bind(null, slug, rule.id, run.lane, true)}
            />
          </>
        )}
        {run.state === 'skipped' && (
          <ActionButton action={skip.bind(null, slug, rule.id, run.lane, false)} done="It leaves after all.">
            Do not skip
          </ActionButton>
        )}
      </span>
    </li>
  );
}

const dayOf = (at: Date, zone: string) =>
  new Intl.DateTimeFormat('en-GB', { weekday: 'short', day: 'numeric', month: 'short', timeZone: zone })
    .format(at)
    .replace(',', '');

const LOGGED: Record<string, string> = {
  draft: 'a draft',
  going: 'on its way',
  done: 'sent',
  nothing: 'no letter',
  skipped: 'skipped',
  dropped: 'not sent',
};

function Run({ run, slug, rule }: { run: RunView; slug: string; rule: RuleView }) {
  const zone = rule.settings.zone;
  const lane = rule.people.find((one) => one.lane === run.lane);
  return (
    <li className="grid grid-cols-[7.5rem_1fr_auto] gap-x-4 border-b border-rule-2 py-2.5 max-sm:grid-cols-1">
      <span>
        <b className="block font-semibold">{dayOf(run.at, zone)}</b>
        <span className="text-small text-ink-2">{dayAndHour(run.at, zone).split(' ')[1]}</span>
      </span>
      <span className="min-w-0">
        {run.letters.map((letter) => (
          <span key={letter.id} className="block">
            <Link href={`/desk/${slug}/letters/${letter.id}`} className="font-semibold break-words hover:underline">
              {letter.subject}
            </Link>{' '}
            <span className="text-small text-ink-2">
              {counted(letter.posts, 'post', 'posts')}; {figure(letter.delivered)} of {figure(letter.recipients)} delivered
              {letter.joining ? ', to those who came to this rhythm' : ''}
            </span>
          </span>
        ))}
        {run.words && <span className="block text-small text-ink-2">{run.words}</span>}
        {rule.people.length > 1 && lane && <span className="block text-small text-ink-2">{lane.words}</span>}
      </span>
      <span>
        <Chip tone={run.state === 'done' ? 'fine' : run.state === 'draft' ? 'look' : 'know'}>{LOGGED[run.state]}</Chip>
      </span>
    </li>
  );
}

type MarginProps = { slug: string; rule: RuleView; words: RuleWords; now: Date; zone: string };

function Margin({ slug, rule, words, now, zone }: MarginProps) {
  const { id } = rule;
  const total = rule.people.reduce((sum, one) => sum + one.n, 0);
  return (
    <>
      <div className="mb-6 flex flex-wrap gap-2">
        {!rule.switchedOnAt ? (
          <ActionButton
            tone="main"
            action={switchOn.bind(null, slug, id, true)}
            done="Switched on. New posts leave by themselves."
          >
            Switch on
          </ActionButton>
        ) : rule.pausedAt ? (
          rule.waiting > 0 ? (
            <ActionDialog
              opens="Go on"
              opensTone="main"
              title={`${counted(rule.waiting, 'post has', 'posts have')} gathered meanwhile`}
              words="Which of them are mailed? Hours that passed in the pause do not come again."
              submit="Go on"
              done="It goes on."
              action={goOnWith.bind(null, slug, id)}
            >
              <ChoiceField name="which" label="Mail" defaultValue="together" choices={WHICH} />
            </ActionDialog>
          ) : (
            <ActionForm action={goOnWith.bind(null, slug, id)} submit="Go on" done="It goes on.">
              {null}
            </ActionForm>
          )
        ) : (
          <>
            <ActionButton action={pause.bind(null, slug, id)} done="Paused. New posts gather, and nothing leaves.">
              Pause
            </ActionButton>
            <ActionDialog
              opens="Run now"
              title="Run it now?"
              words="What waits leaves at once, at every rhythm, though its last edits may be a moment ago."
              submit="Run it now"
              done="It runs now."
              action={runRuleNow.bind(null, slug, id)}
            />
          </>
        )}
      </div>
      <Section title="Who reads how" aside={`${rule.exact ? '' : 'about '}${figure(total)}`}>
        <dl>
          {rule.people.map((one) => (
            <div key={one.lane} className="flex justify-between gap-3 border-b border-rule-2 py-2 text-[13.5px]">
              <dt>
                {one.words}
                {one.lane === 'usual' && rule.people.length > 1 ? ' (the usual)' : ''}
              </dt>
              <dd className="font-semibold">{figure(one.n)}</dd>
            </div>
          ))}
        </dl>
      </Section>
      <Section title={rule.feeds.length > 1 ? 'The feeds' : 'The feed'}>
        {rule.feeds.map((feed) => (
          <FeedNote key={feed.id} feed={feed} on={rule.switchedOnAt !== null} now={now} zone={zone} />
        ))}
      </Section>
      <div className="flex flex-wrap gap-x-4 gap-y-2 text-[13px]">
        <ActionDialog
          opens="Rename it"
          opensTone="quiet"
          title="Rename this rule"
          submit="Save"
          done="Saved"
          action={renameRule.bind(null, slug, id, words)}
        >
          <TextField name="name" label="Name" defaultValue={rule.name} />
        </ActionDialog>
        {rule.switchedOnAt && (
          <ActionDialog
            opens="Switch off"
            opensTone="quiet"
            title="Switch it off?"
            words="Its feed is asked for no more, and what waits is not mailed. Switched on again, it starts afresh. To hold it for a while, pause it."
            submit="Switch off"
            done="Switched off. Nothing more is sent."
            action={switchOn.bind(null, slug, id, false)}
          />
        )}
        <ActionDialog
          opens="Delete it"
          opensTone="quiet"
          title={`Delete “${rule.name}”?`}
          words="Letters it has made stay. What waits is not mailed, and the rhythms that readers chose for it are forgotten."
          submit="Delete it"
          tone="harm"
          action={removeRule.bind(null, slug, id)}
        />
      </div>
      <p className="mt-4 text-small text-ink-2">Hours are of the clock in {zonePlace(rule.settings.zone)}.</p>
    </>
  );
}

function FeedNote({ feed, on, now, zone }: { feed: RuleView['feeds'][number]; on: boolean; now: Date; zone: string }) {
  const days = feed.gapMs === null ? null : Math.round(feed.gapMs / 86_400_000);
  const usual = days === null ? '' : days <= 1 ? ' You post about every day.' : ` You post every ${days} days or so.`;
  if (!on)
    return (
      <Note tone="know" title={feed.title}>
        Not asked for while this is off.
      </Note>
    );
  if (feed.fault)
    return (
      <Note tone="look" title={`${feed.title} could not be read`}>
        {feed.nextPollAt ? `Asked again ${spokenTime(feed.nextPollAt, now, zone)}.` : 'It is asked for no more.'}
      </Note>
    );
  if (feed.emptiedAt)
    return (
      <Note tone="look" title={`${feed.title} shows no post`}>
        Since {spokenTime(feed.emptiedAt, now, zone)}. Nothing counts as taken down for that.
      </Note>
    );
  if (feed.cut)
    return (
      <Note tone="look" title={`${feed.title} breaks off in the middle`}>
        The posts that stand whole before that were read; for those behind it your blog has to send its feed whole.
        {feed.nextPollAt ? ` Asked again ${spokenTime(feed.nextPollAt, now, zone)}.` : ''}
      </Note>
    );
  return (
    <Note tone={feed.quiet ? 'look' : 'fine'} title={feed.polledAt ? `Read ${ago(feed.polledAt, now)}` : 'Not read yet'}>
      {feed.title}, {counted(feed.posts, 'post', 'posts')} known.{usual}
      {feed.quiet ? ' There was none for three times as long: if you wrote one, its feed does not show it.' : ''}
      {feed.hubUntil && feed.hubUntil > now ? ' Its hub tells us of new posts.' : ''}
      {feed.nextPollAt ? ` Asked again ${spokenTime(feed.nextPollAt, now, zone)}.` : ''}
    </Note>
  );
}
