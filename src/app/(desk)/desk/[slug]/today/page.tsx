import { Check, Circle } from 'lucide-react';
import type { Metadata } from 'next';
import Link from 'next/link';
import { rhythmInPlace } from '@/core/autosend/tell-rule';
import { counted, figure, percent, plural, together } from '@/core/growth/figures';
import { dayAndHour, longDay, spokenTime } from '@/core/growth/times';
import { isWrong } from '@/core/senders/judge';
import { nearEachOther } from '@/core/sending/last-look';
import { hasBegun } from '@/core/sending/letter-state';
import { type Today, today } from '@/server/growth/today';
import { Funnel } from '@/ui/growth/funnel';
import { JoinedLeft } from '@/ui/growth/joined-left';
import { Chip, Empty, Note, Screen, Section, Standfirst } from '@/ui/kit/page';
import { LetterTable } from '@/ui/sending/letter-table';
import { Runway } from '@/ui/sending/runway';
import { deskOf } from '../../../../desk';
import { First } from './first';

export const metadata: Metadata = { title: 'Today' };

/** To how many a letter goes, as far as that is known soon. */
const toHowMany = (reach: { will: number; exact: boolean } | undefined) =>
  `to ${reach?.exact === false ? 'about ' : ''}${figure(reach?.will ?? 0)}`;

export default async function Page({ params }: { params: Promise<{ slug: string }> }) {
  const { slug } = await params;
  const { ctx, newsletter, person } = await deskOf(slug);
  const data = await today(ctx, newsletter);
  // Until something was sent or is to be, the way to the first letter is what there is to see.
  if (data.letters.length === 0)
    return <First ctx={ctx} newsletter={newsletter} person={person} data={{ ...data, reading: data.totals.reading }} />;
  const zone = newsletter.time_zone;
  const last = data.letters.find((letter) => letter.state === 'sent');
  const out = data.letters.filter((letter) => hasBegun(letter.state));
  const near = nearEachOther(
    data.letters.filter((letter) => letter.state !== 'stopped').map(({ id, dueAt, audience }) => ({ id, at: dueAt, audience })),
  );
  const departures = data.letters
    .filter((letter) => ['scheduled', 'held', 'starting', 'sending', 'paused'].includes(letter.state))
    .map((letter) => ({
      id: letter.id,
      at: letter.dueAt,
      time: letter.state === 'sending' ? 'leaving now' : dayAndHour(letter.dueAt, zone),
      title: letter.subject,
      detail:
        letter.state === 'sending'
          ? `${figure(letter.counts.delivered)} of ${figure(letter.counts.recipients)}`
          : letter.state === 'held' || letter.state === 'paused'
            ? letter.state
            : toHowMany(data.reach.get(letter.id)),
      href: `/desk/${slug}/letters/${letter.id}`,
      held: letter.state === 'held',
      near: near.has(letter.id),
    }));
  const subjects = new Map(data.letters.map((letter) => [letter.id, letter.subject]));
  for (const share of data.later) {
    departures.push({
      id: `${share.letterId}-${share.at.toISOString()}`,
      at: share.at,
      time: dayAndHour(share.at, zone),
      title: subjects.get(share.letterId) ?? 'A letter under way',
      detail: `${figure(share.count)} more`,
      href: `/desk/${slug}/letters/${share.letterId}`,
      held: false,
      near: false,
    });
  }
  const watching = data.autoSends.filter((rule) => rule.switchedOnAt && !rule.pausedAt);
  // What rules have gathered so far stands at the hour at which it would leave.
  for (const rule of watching)
    for (const [n, run] of rule.coming.entries()) {
      const titles = run.posts.filter((post) => post.fate === 'in').map((post) => post.title);
      if (run.at && run.at > data.now && titles.length > 0)
        departures.push({
          id: `${rule.id}-${n}`,
          at: run.at,
          time: dayAndHour(run.at, zone),
          title: titles.length === 1 ? titles[0]! : `${counted(titles.length, 'post', 'posts')} of ${rule.name}`,
          detail: `${run.state === 'ready' ? '' : 'so far, '}to ${rule.exact ? '' : 'about '}${figure(run.people)}`,
          href: `/desk/${slug}/auto-sends/${rule.id}`,
          held: false,
          near: false,
        });
    }
  return (
    <Screen margin={<Margin slug={slug} data={data} zone={zone} />}>
      <Standfirst title={longDay(data.now, zone)}>
        {data.totals.reading === 0 ? (
          <>Nobody reads {newsletter.name} yet. The steps on the right lead to the first reader, one after the other.</>
        ) : (
          <>
            <b>{counted(data.totals.reading, 'person', 'people')}</b> {plural(data.totals.reading, 'reads', 'read')}{' '}
            {newsletter.name}. In the last 7 days <b>{figure(data.week.joined)} joined</b> and{' '}
            <b>{figure(data.week.left)} left</b>
            {last && last.counts.recipients > 0 && (
              <>
                ; the last letter was delivered to <b>{percent(last.counts.delivered, last.counts.recipients)}</b> of its readers
              </>
            )}
            .
          </>
        )}
      </Standfirst>

      <Section title="Going out next" aside={`Next 14 days, ${zone.replace(/_/g, ' ')}`}>
        <Runway departures={departures} ceilings={data.ramps[0]?.ahead ?? []} now={data.now} zone={zone} />
        {data.ramps[0] && (
          <p className="mt-2 text-[13px] text-ink-2">
            {data.ramps[0].domain} is being ramped up: the figure under a day is the most that may leave then.
          </p>
        )}
        {watching.length > 0 && (
          <p className="mt-2 text-[13px] text-ink-2">
            {together(
              watching.map(
                (rule) =>
                  `“${rule.name}” leaves ${rhythmInPlace(rule.settings)}${rule.settings.choices ? ', or as readers chose' : ''}`,
              ),
            )}
            .{' '}
            <Link href={`/desk/${slug}/auto-sends`} className="link">
              See auto-sends
            </Link>
          </p>
        )}
      </Section>

      <div className="grid gap-x-7 md:grid-cols-2">
        <Section title="Joined and left" aside="28 days">
          <JoinedLeft days={data.days} />
        </Section>
        <Section title="From visit to reader" aside="28 days, all forms">
          <Funnel steps={data.funnel} />
        </Section>
      </div>

      <Section
        title="Last letters"
        aside={
          <Link href={`/desk/${slug}/letters`} className="link">
            All letters
          </Link>
        }
      >
        {out.length === 0 ? (
          <Empty title="No letter has left yet">
            Connect your blog under Auto-sends, and the next post you publish becomes the first one.
          </Empty>
        ) : (
          <LetterTable
            letters={out.slice(0, 6).map((l) => ({ ...l, at: l.startedAt ?? l.dueAt }))}
            slug={slug}
            now={data.now}
            zone={zone}
          />
        )}
      </Section>
    </Screen>
  );
}

function Margin({ slug, data, zone }: { slug: string; data: Today; zone: string }) {
  const base = `/desk/${slug}`;
  const needs = needsYou(data, base);
  const steps = [
    { label: 'Name and address', done: true, href: `${base}/settings` },
    { label: 'Sender confirmed', done: data.senders.some((s) => s.state === 'confirmed'), href: `${base}/delivery` },
    { label: 'Domain authenticated', done: data.domains.some((d) => d.state === 'authenticated'), href: `${base}/delivery` },
    { label: 'Form on your site', done: data.formsSeen, href: `${base}/forms` },
    { label: 'Tried it yourself, as a reader would', done: data.tried, href: `/at/${slug}` },
    { label: 'Blog connected', done: data.autoSends.some((a) => a.switchedOnAt), href: `${base}/auto-sends` },
  ];
  const done = steps.filter((step) => step.done).length;
  const next = steps.find((step) => !step.done);
  return (
    <>
      <Section title="Needs you" aside={needs.length || undefined}>
        {needs.length === 0 && done === steps.length && <Note tone="fine" title="Nothing just now" />}
        {needs.length === 0 && next && (
          <Note tone="look" title={`Still to do: ${next.label.toLowerCase()}`} action={{ label: 'Go on', href: next.href }} />
        )}
        {needs}
      </Section>
      {done < steps.length && (
        <Section title="Setting up" aside={`${done} of ${steps.length}`}>
          <ol className="mt-2.5 space-y-1.5">
            {steps.map((step) => (
              <li key={step.label} className="flex items-center gap-2 text-[13px]">
                {step.done ? (
                  <Check size={15} className="text-verdigris" aria-label="done" />
                ) : (
                  <Circle size={15} className="text-ink-3" aria-label="to do" />
                )}
                {step.done ? (
                  <span className="text-ink-2">{step.label}</span>
                ) : (
                  <a href={step.href} className={step === next ? 'font-semibold link' : 'link'}>
                    {step.label}
                  </a>
                )}
              </li>
            ))}
          </ol>
        </Section>
      )}
      {data.standing.length > 0 && (
        <Section title="Delivered, by mailbox provider" aside="14 days">
          <ul>
            {data.standing.map((row) => {
              const share = row.delivered / row.settled;
              const tone = share >= 0.98 ? 'fine' : share >= 0.95 ? 'look' : 'mend';
              return (
                <li key={row.provider} className="flex items-center justify-between gap-2 border-b border-rule-2 py-2">
                  <span className="min-w-0 truncate">{row.provider}</span>
                  <span className="figures flex shrink-0 items-center gap-2 font-semibold">
                    {percent(row.delivered, row.settled)}{' '}
                    <Chip tone={tone}>
                      {tone === 'fine' ? 'accepted' : tone === 'look' ? 'mostly accepted' : 'often refused'}
                    </Chip>
                  </span>
                </li>
              );
            })}
          </ul>
        </Section>
      )}
      <Section title="Who you are">
        {data.senders.length === 0 && (
          <Note tone="know" title="No sender yet" action={{ label: 'Add one', href: `${base}/delivery` }} />
        )}
        {data.senders.slice(0, 3).map((sender) => (
          <p key={sender.id} className="border-b border-rule-2 py-2 text-[13px]">
            <b className="mr-1.5">{sender.name}</b>
            <Chip tone={sender.state === 'confirmed' ? 'fine' : 'look'}>
              {sender.state === 'confirmed' ? 'Confirmed' : 'Awaiting click'}
            </Chip>
            <span className="block break-all text-ink-2">{sender.address}</span>
          </p>
        ))}
        {data.domains.slice(0, 3).map((domain) => (
          <p key={domain.id} className="border-b border-rule-2 py-2 text-[13px]">
            <Link href={`${base}/delivery/domains/${domain.id}`} className="mr-1.5 font-semibold hover:underline">
              {domain.name}
            </Link>
            <Chip tone={domain.state === 'authenticated' ? 'fine' : 'look'}>
              {domain.state === 'authenticated' ? 'Signed and aligned' : 'Records missing'}
            </Chip>
            {domain.checkedAt && <span className="block text-ink-2">checked {spokenTime(domain.checkedAt, data.now, zone)}</span>}
          </p>
        ))}
      </Section>
    </>
  );
}

function needsYou(data: Today, base: string) {
  const notes = [];
  for (const { id, heading, words, path } of data.unusual)
    notes.push(
      <Note key={id} tone="look" title={heading} action={{ label: 'See why', href: `${base}${path}` }}>
        {words[0]}
      </Note>,
    );
  for (const letter of data.letters.filter((l) => l.state === 'sending' && l.next)) {
    notes.push(
      <Note
        key={`${letter.id} waits`}
        tone="look"
        title={`The rest of “${letter.subject}” waits for you`}
        action={{ label: 'Say which version they get', href: `${base}/letters/${letter.id}` }}
      >
        Its test is decided.
      </Note>,
    );
  }
  for (const letter of data.letters.filter((l) => l.state === 'held')) {
    notes.push(
      <Note
        key={letter.id}
        tone="mend"
        title={`“${letter.subject}” is held back`}
        action={{ label: 'See what to mend', href: `${base}/letters/${letter.id}` }}
      >
        {letter.cause}
      </Note>,
    );
  }
  for (const domain of data.domains.filter((d) => d.state === 'incomplete')) {
    const wrong = domain.records.filter((r) => r.needed && isWrong(r.judgement?.verdict));
    notes.push(
      <Note
        key={domain.id}
        tone="mend"
        title={`${domain.name}: ${counted(wrong.length, 'record is', 'records are')} not right`}
        action={{ label: 'See what differs', href: `${base}/delivery/domains/${domain.id}` }}
      >
        Letters wait until the domain proves them.
      </Note>,
    );
  }
  const watched = data.autoSends.filter((rule) => rule.switchedOnAt);
  for (const rule of watched.filter((one) => one.held.length > 0))
    notes.push(
      <Note
        key={`held-${rule.id}`}
        tone="look"
        title={`${counted(rule.held.length, 'new post', 'new posts')} of ${rule.name} came at once`}
        action={{ label: 'Say which go', href: `${base}/auto-sends/${rule.id}` }}
      >
        None of them leaves by itself.
      </Note>,
    );
  for (const feed of watched.flatMap((rule) => rule.feeds).filter((one) => one.fault || one.emptiedAt || one.quiet)) {
    notes.push(
      <Note
        key={feed.id}
        tone="look"
        title={
          feed.fault
            ? `${feed.title} could not be read`
            : feed.emptiedAt
              ? `${feed.title} shows no post any more`
              : `No new post in ${feed.title} for long`
        }
        action={{ label: 'See auto-sends', href: `${base}/auto-sends` }}
      >
        {feed.fault
          ? `${feed.fault}${feed.nextPollAt ? ' We ask again by ourselves.' : ''}`
          : feed.emptiedAt
            ? 'Nothing counts as taken down for that.'
            : 'Three times as long as is usual there.'}
      </Note>,
    );
  }
  if (data.totals.waiting > 0) {
    notes.push(
      <Note
        key="waiting"
        tone="look"
        title={`${counted(data.totals.waiting, 'sign-up', 'sign-ups')} never confirmed`}
        action={{ label: 'See who', href: `${base}/readers?state=waiting` }}
      >
        They got the confirmation letter and nothing else.
      </Note>,
    );
  }
  return notes;
}
