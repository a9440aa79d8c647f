import type { Metadata } from 'next';
import Link from 'next/link';
import { laneWords } from '@/core/autosend/tell-rule';
import { counted, figure, percent } from '@/core/growth/figures';
import { fullTime, spokenTime } from '@/core/growth/times';
import { CALL_BACK, paceWords } from '@/core/sending/departure';
import { verdictWords, waitingForTest } from '@/core/sending/letter-test';
import { lookAgainAfter, readRange } from '@/core/sending/result';
import { audienceWords } from '@/core/sending/tell-audience';
import { lineForAll } from '@/core/writing/line';
import { sendersOf } from '@/server/senders/senders';
import { namesFor } from '@/server/sending/address';
import { againOf } from '@/server/sending/again';
import { laneOf } from '@/server/sending/audience';
import { pageOf } from '@/server/sending/pages';
import { progressOf } from '@/server/sending/progress';
import { reachSoon } from '@/server/sending/reach';
import { curveOf } from '@/server/sending/results';
import { previewOf } from '@/server/sending/start';
import { versionNames, versionsOf } from '@/server/sending/versions';
import { letterOf } from '@/server/sending/views';
import { ActionButton, ChoiceField } from '@/ui/kit/action-form';
import { ButtonLink } from '@/ui/kit/button';
import { ActionDialog } from '@/ui/kit/dialog';
import { Chip, Note, Screen, Section, Standfirst } from '@/ui/kit/page';
import { Refreshing } from '@/ui/kit/refreshing';
import { SubNav } from '@/ui/kit/sub-nav';
import { Table } from '@/ui/kit/table';
import { FirstDays } from '@/ui/sending/first-days';
import { LetterPreview } from '@/ui/sending/letter-preview';
import { SendAgain } from '@/ui/sending/send-again';
import { UnderWay } from '@/ui/sending/under-way';
import { VersionsTold } from '@/ui/sending/versions-told';
import { deskOf, orNotFound } from '../../../../../desk';
import {
  choose,
  drop,
  duplicate,
  letNewcomersIn,
  once,
  pause,
  publish,
  putAway,
  resume,
  sendFrom,
  stop,
  takeBack,
  unpublish,
} from '../actions';

export const metadata: Metadata = { title: 'Letter' };

/** So many links stand in the margin; all of them in the letter itself. */
const MOST_LINKS = 20;

export default async function Page({ params }: { params: Promise<{ slug: string; id: string }> }) {
  const { slug, id } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const letter = await orNotFound(letterOf(ctx, newsletter, id));
  const senders = await sendersOf(ctx, newsletter);
  const sender = senders.find((entry) => entry.id === letter.senderId);
  const { counts } = letter;
  const waiting = Math.max(
    0,
    counts.recipients - counts.delivered - counts.bounced - counts.refused - counts.givenUp - counts.cancelled,
  );
  const underWay = letter.state === 'starting' || letter.state === 'sending' || letter.state === 'paused';
  const ahead = letter.state === 'draft' || letter.state === 'scheduled' || letter.state === 'held';
  const lane = await laneOf(ctx.db, newsletter, id);
  const [reach, preview] = ahead
    ? await Promise.all([reachSoon(ctx, newsletter, letter.audience, lane), previewOf(ctx, newsletter, letter.id)])
    : [null, null];
  const page = await pageOf(ctx, newsletter, id).catch(() => null);
  const names = letter.state === 'scheduled' ? await namesFor(ctx, newsletter, letter.audience) : null;
  const base = `/desk/${slug}/letters/${id}`;
  // Told to leave now, and still to be called back.
  const left = Math.ceil((letter.dueAt.getTime() - ctx.clock.now().getTime()) / 1_000);
  const leavesIn =
    letter.state === 'scheduled' && letter.departure?.when === 'now' && left <= CALL_BACK.most ? Math.max(0, left) : null;
  const html = letter.html ?? preview?.html;
  const failed = counts.bounced + counts.refused + counts.givenUp;
  const versions = letter.test && !ahead ? await versionsOf(ctx.db, id) : [];
  const [curve, progress, again] = ahead
    ? [null, null, null]
    : await Promise.all([
        curveOf(ctx, newsletter, id),
        underWay ? progressOf(ctx, newsletter, id) : null,
        letter.state === 'sent' ? againOf(ctx, newsletter, id) : null,
      ]);
  const read = readRange(counts);
  const say = (at: Date) => spokenTime(at, ctx.clock.now(), newsletter.time_zone);
  const kept =
    letter.test && letter.winner === null && underWay
      ? waitingForTest({ recipients: counts.recipients, waiting, share: letter.test.share, versions: versions.length + 1 })
      : 0;
  const tried = letter.test
    ? versionNames(letter.test, { subject: letter.subject, sender: letter.from ?? '', beginning: '' }, versions)
    : [];
  return (
    <Screen
      margin={
        <>
          {ahead && (
            <Section title="From">
              <div className="flex items-start justify-between gap-3 py-2.5 text-[13px]">
                <span className="min-w-0">
                  <b className="block">{sender?.name ?? 'No sender'}</b>
                  <span className="break-all text-ink-2">{sender?.address}</span>
                </span>
                <ActionDialog
                  opens="Another sender"
                  opensTone="quiet"
                  title="Send it from"
                  submit="Choose"
                  done="Chosen"
                  action={sendFrom.bind(null, slug, id)}
                >
                  <ChoiceField
                    name="senderId"
                    label="Sender"
                    defaultValue={sender?.id}
                    choices={senders
                      .filter((s) => s.state === 'confirmed')
                      .map((s) => ({ value: s.id, label: `${s.name} <${s.address}>` }))}
                  />
                </ActionDialog>
              </div>
            </Section>
          )}
          {reach && (
            <Section title="Whom it is for" aside="as of now">
              <dl className="figures">
                <div className="flex items-baseline justify-between gap-3 border-b border-rule-2 py-2">
                  <dt>Will get it</dt>
                  <dd>
                    {!reach.exact && 'about '}
                    <b>{figure(reach.will)}</b>
                  </dd>
                </div>
              </dl>
              <Link className="link mt-2 inline-block text-[13px]" href={`${base}/address`}>
                Who does not, and why
              </Link>
              <p className="mt-2 text-small text-ink-2">
                Fixed when it starts: who joins until then gets it, who leaves does not.
              </p>
            </Section>
          )}
          {!ahead && (
            <Section title="Results" aside="people only">
              <dl className="figures">
                {[
                  ['Recipients', figure(counts.recipients), ''],
                  ['Delivered', figure(counts.delivered), percent(counts.delivered, counts.recipients)],
                  letter.counted.opens
                    ? ['Read by people', figure(counts.people), percent(counts.people, counts.delivered)]
                    : ['Read by people', 'not counted', ''],
                  ...(letter.counted.opens && counts.hidden > 0
                    ? [
                        ['Hidden by a machine', figure(counts.hidden), percent(counts.hidden, counts.delivered)],
                        [
                          'So read by about',
                          figure(read.about),
                          percent(Math.min(read.about, counts.delivered), counts.delivered),
                        ],
                      ]
                    : []),
                  ['Opened by machines', letter.counted.opens ? figure(counts.machines) : 'not counted', ''],
                  letter.counted.clicks
                    ? ['Clicked', figure(counts.clicked), percent(counts.clicked, counts.delivered)]
                    : ['Clicked', 'not counted', ''],
                  ['Left', figure(counts.left), percent(counts.left, counts.delivered)],
                  ['Bounced', figure(counts.bounced), percent(counts.bounced, counts.recipients)],
                  ['Refused', figure(counts.refused), ''],
                  ['Given up', figure(counts.givenUp), ''],
                  ['Cancelled', figure(counts.cancelled), ''],
                  ['Complained', figure(counts.complained), ''],
                ].map(([label, value, share]) => (
                  <div key={label} className="flex items-baseline justify-between gap-3 border-b border-rule-2 py-2">
                    <dt>{label}</dt>
                    <dd>
                      <b>{value}</b> <span className="ml-1 text-small text-ink-2">{share}</span>
                    </dd>
                  </div>
                ))}
              </dl>
              {letter.counted.opens && counts.hidden > 0 && (
                <p className="mt-2 text-small text-ink-2">
                  At least {figure(read.least)} and at most {figure(read.most)} read it: for{' '}
                  {counted(counts.hidden, 'person', 'people')} a machine opened it, and nobody can tell whether they did.
                </p>
              )}
            </Section>
          )}
          {!ahead && (
            <Section title="Links" aside={letter.links.length > MOST_LINKS ? `the first ${MOST_LINKS}` : undefined}>
              {letter.links.length === 0 && <p className="py-2.5 text-ink-2">This letter has no links of its own.</p>}
              <ul>
                {letter.links.slice(0, MOST_LINKS).map((link) => (
                  <li key={link.url} className="flex justify-between gap-3 border-b border-rule-2 py-2 text-[13px]">
                    <span className="min-w-0 break-all">{link.url.replace(/^https?:\/\//, '')}</span>
                    <b className="figures">{figure(link.clicks)}</b>
                  </li>
                ))}
              </ul>
            </Section>
          )}
          {page && page.goes !== 'letter' && (
            <Section title="As a web page">
              <p className="py-2.5 text-[13px] text-ink-2">
                {page.publishedAt ? (
                  <>
                    It stands at{' '}
                    <a className="link break-all" href={page.url}>
                      {page.url.replace(/^https?:\/\//, '')}
                    </a>
                    .
                  </>
                ) : page.goes === 'page' ? (
                  'It stands once you publish it.'
                ) : ahead ? (
                  'It stands from the moment at which the letter leaves.'
                ) : (
                  'It was taken down.'
                )}
              </p>
              {page.publishedAt ? (
                <ActionButton action={unpublish.bind(null, slug, id)} done="The page is taken down">
                  Take it down
                </ActionButton>
              ) : (
                <ActionButton action={publish.bind(null, slug, id)} done="The page stands">
                  {ahead && page.goes === 'both' ? 'Publish it now' : 'Publish the page'}
                </ActionButton>
              )}
            </Section>
          )}
        </>
      }
    >
      {(letter.state === 'sending' || letter.state === 'starting') && (
        <Refreshing seconds={lookAgainAfter(progress?.left ?? null)} />
      )}
      {leavesIn !== null && <Refreshing seconds={1} />}
      <Standfirst
        title={lineForAll(letter.subject) || 'Without a subject'}
        trail={[{ label: 'Letters', href: `/desk/${slug}/letters` }]}
        actions={
          ahead ? (
            <>
              <ButtonLink href={`${base}/write`}>Write on it</ButtonLink>
              <ActionButton action={duplicate.bind(null, slug, id)}>Duplicate</ActionButton>
              {letter.state === 'draft' && (
                <ActionButton
                  action={putAway.bind(null, slug, id, !letter.away)}
                  done={letter.away ? 'Brought back' : 'Put away'}
                >
                  {letter.away ? 'Bring it back' : 'Put it away'}
                </ActionButton>
              )}
              {letter.state === 'draft' && (
                <ActionDialog
                  opens="Throw away …"
                  opensTone="quiet"
                  title={`Throw “${lineForAll(letter.subject) || 'Without a subject'}” away?`}
                  words="Its words and its versions are gone then."
                  submit="Throw it away"
                  tone="harm"
                  action={drop.bind(null, slug, id)}
                />
              )}
              {page?.goes === 'page' ? null : (
                <ButtonLink
                  tone={letter.state === 'draft' ? 'main' : 'plain'}
                  href={`${base}/${letter.state === 'draft' ? 'address' : 'send'}`}
                >
                  {letter.state === 'draft' ? 'Address it' : 'Another time'}
                </ButtonLink>
              )}
              {letter.state !== 'draft' && (
                <ActionButton
                  action={takeBack.bind(null, slug, id)}
                  done="Called back. It goes nowhere until you give it a time."
                >
                  Call it back
                </ActionButton>
              )}
            </>
          ) : !underWay ? (
            <>
              {again?.can && (
                <SendAgain
                  id={id}
                  base={base}
                  subject={lineForAll(letter.subject)}
                  audience={letter.audience}
                  once={once.bind(null, slug, id)}
                />
              )}
              <ActionButton action={duplicate.bind(null, slug, id)}>Duplicate</ActionButton>
              <ActionButton action={putAway.bind(null, slug, id, !letter.away)} done={letter.away ? 'Brought back' : 'Put away'}>
                {letter.away ? 'Bring it back' : 'Put it away'}
              </ActionButton>
            </>
          ) : (
            underWay && (
              <>
                {letter.state === 'paused' && (
                  <ActionButton tone="main" action={resume.bind(null, slug, id)} done="It goes on">
                    Let it go on
                  </ActionButton>
                )}
                {(letter.state === 'sending' || letter.state === 'paused') && (
                  <ActionDialog
                    opens="Let in newcomers …"
                    opensTone="quiet"
                    title="Let in who joined since it began?"
                    words="Whoever is in its audience and began to read after it began to leave gets it too, last of all. Nobody gets it twice."
                    submit="Let them in"
                    action={letNewcomersIn.bind(null, slug, id)}
                  />
                )}
                {letter.state === 'sending' && (
                  <ActionButton action={pause.bind(null, slug, id)} done="Paused">
                    Pause it
                  </ActionButton>
                )}
                <ActionDialog
                  opens="Stop it …"
                  opensTone="quiet"
                  title="Stop this letter for good?"
                  words="Whoever has not got it yet will not get it, and it cannot be started again. The few that are being handed over at this moment may still arrive."
                  submit="Stop it"
                  done="Stopped"
                  tone="harm"
                  action={stop.bind(null, slug, id)}
                />
              </>
            )
          )
        }
      >
        {letter.state === 'draft' &&
          (page?.goes === 'page' ? (
            <>It is a page alone, and goes to nobody by mail.</>
          ) : (
            <>It goes nowhere until you give it a time.</>
          ))}
        {letter.state === 'scheduled' && (
          <>
            {leavesIn !== null ? (
              <>
                It leaves in <b>{counted(leavesIn, 'second', 'seconds')}</b>
              </>
            ) : (
              <>It leaves {fullTime(letter.dueAt, letter.departure?.zone ?? newsletter.time_zone)}</>
            )}
            {letter.departure && letter.departure.pace.kind !== 'at once' && <>, {paceWords(letter.departure.pace)}</>}, by
            itself, to{' '}
            <b>
              {reach!.exact ? '' : 'about '}
              {counted(reach!.will, 'person', 'people')}
            </b>
            : {audienceWords(letter.audience, names!.choices.names, names!.people)}
            {laneWords(lane?.lane ?? null)}.
          </>
        )}
        {letter.state === 'held' && <>It is held back and leaves by itself once this is mended.</>}
        {letter.state === 'starting' && <>It is starting: who gets it is being fixed.</>}
        {letter.state === 'paused' && (
          <>
            It is paused: <b>{figure(counts.delivered)}</b> of <b>{figure(counts.recipients)}</b> delivered,{' '}
            {counted(waiting, 'waits', 'wait')} until it goes on.
          </>
        )}
        {letter.state === 'stopped' && (
          <>
            It was stopped: <b>{figure(counts.delivered)}</b> of <b>{figure(counts.recipients)}</b> had got it,{' '}
            {figure(counts.cancelled)} do not.
          </>
        )}
        {letter.state === 'sending' && kept > 0 && kept === waiting && (
          <>
            It is being tried: <b>{figure(counts.delivered)}</b> of <b>{figure(counts.recipients)}</b> got one of its versions,{' '}
            {counted(kept, 'waits', 'wait')} {letter.verdict ? 'for you to say which one they get' : 'for what comes of it'}.
          </>
        )}
        {letter.state === 'sending' && !(kept > 0 && kept === waiting) && (
          <>
            It is leaving: <b>{figure(counts.delivered)}</b> of <b>{figure(counts.recipients)}</b> delivered,{' '}
            {counted(waiting, 'is', 'are')} on the way.
          </>
        )}
        {letter.state === 'sent' && (
          <>
            It was delivered to <b>{percent(counts.delivered, counts.recipients)}</b> of{' '}
            {counted(counts.recipients, 'recipient', 'recipients')}
            {letter.counted.opens && (
              <>
                ; <b>{counted(counts.people, 'person', 'people')}</b> read it
              </>
            )}
            {letter.counted.clicks && (
              <>
                {letter.counted.opens ? ' and' : ';'} <b>{figure(counts.clicked)}</b> clicked
              </>
            )}
            .
          </>
        )}
      </Standfirst>
      {letter.state === 'held' && letter.cause && (
        <Note tone="mend" title={letter.cause} action={{ label: 'Go to Delivery', href: `/desk/${slug}/delivery` }} />
      )}
      {letter.resting.map((way) => (
        <Note
          key={way.name}
          tone="look"
          title={`${way.name} is tried again ${spokenTime(way.until, ctx.clock.now(), newsletter.time_zone)}`}
        >
          {way.reason}. Its readers are not to blame and keep their place.
        </Note>
      ))}
      {!ahead && (
        <SubNav
          label="This letter"
          here={base}
          parts={[
            { href: base, label: 'Result' },
            { href: `${base}/recipients`, label: 'Recipients' },
            { href: `/desk/${slug}/letters/compare`, label: 'Beside other letters' },
          ]}
        />
      )}
      {letter.againOf && (
        <Note
          tone="know"
          title="This is a letter once more, for those who did not open it the first time"
          action={{ label: 'The first time', href: `/desk/${slug}/letters/${letter.againOf}` }}
        />
      )}
      {again && !again.can && again.letter && !letter.againOf && (
        <Note
          tone="know"
          title={again.why}
          action={{ label: 'The second time', href: `/desk/${slug}/letters/${again.letter}` }}
        />
      )}
      {progress && (
        <UnderWay
          progress={progress}
          counts={{ recipients: counts.recipients, delivered: counts.delivered, failed, cancelled: counts.cancelled }}
          kept={kept}
          paused={letter.state === 'paused'}
          last={progress.lastDue && say(progress.lastDue)}
        />
      )}
      {letter.test && !ahead && (
        <VersionsTold
          test={letter.test}
          names={tried}
          figures={curve?.figures?.versions ?? null}
          counted={letter.counted}
          winner={letter.winner}
          clear={letter.verdict?.winner ?? null}
          arms={letter.verdict?.arms ?? null}
          choose={
            kept > 0
              ? (n) => (
                  <ActionDialog
                    key="c"
                    opens="Send the rest this"
                    opensTone="quiet"
                    label={`Send the rest this: “${tried[n] || 'the letter’s own'}”`}
                    title="Send it to the rest now?"
                    words={`${counted(kept, 'person gets', 'people get')} “${tried[n] || 'the letter’s own'}”. The test ends with it.`}
                    submit="Yes, send it"
                    done="The rest is on its way"
                    action={choose.bind(null, slug, id, n)}
                  />
                )
              : null
          }
        >
          {letter.verdict ? (
            <>
              {verdictWords(letter.verdict, letter.test.decides, tried)}{' '}
              {letter.verdict.by
                ? `${letter.verdict.by} chose what the rest gets.`
                : kept > 0
                  ? 'The rest waits until you choose.'
                  : ''}
            </>
          ) : letter.state === 'stopped' ? (
            <>It was stopped before its test was decided.</>
          ) : letter.decideAt ? (
            <>
              It is decided {say(letter.decideAt)}, or once nearly all of them have arrived, by who{' '}
              {letter.test.decides === 'clicks' ? 'followed a link' : 'opened it'};{' '}
              {letter.test.rest === 'goes' ? 'the rest gets the better one then, by itself.' : 'the rest waits for you then.'}
            </>
          ) : null}
        </VersionsTold>
      )}
      {curve?.figures && letter.counted.opens && counts.delivered > 0 && (
        <Section title="Its first two days" aside={curve.at ? `as of ${say(curve.at)}` : undefined}>
          <FirstDays
            figures={curve.figures}
            delivered={counts.delivered}
            hours={Math.ceil(((curve.at ?? letter.startedAt!).getTime() - letter.startedAt!.getTime() + 1) / 3_600_000)}
            usual={curve.usual}
            former={curve.former}
            clicks={letter.counted.clicks}
          />
        </Section>
      )}
      {html && (
        <Section title={ahead ? 'As it would leave now' : 'As it was sent'} aside={ahead ? sender?.name : letter.from}>
          <LetterPreview
            html={html}
            text={letter.text ?? preview?.text ?? ''}
            {...(!ahead && letter.counted.clicks ? { clicks: letter.links } : {})}
          />
        </Section>
      )}
      {letter.domains.length > 0 && (
        <Section title="By mailbox provider">
          <Table
            label="Delivery by mailbox provider"
            columns={[
              { title: 'Provider' },
              { title: 'Recipients', figure: true },
              { title: 'Delivered', figure: true },
              { title: 'Read', figure: true },
              { title: 'Clicked', figure: true },
              { title: 'Left', figure: true },
              { title: 'Came back', figure: true },
              ...(underWay ? [{ title: 'Waiting', figure: true }] : []),
            ]}
            rows={letter.domains.map((p) => ({
              key: p.domain,
              cells: [
                p.domain,
                figure(p.recipients),
                figure(p.delivered),
                letter.counted.opens ? percent(p.people, p.delivered) : 'not counted',
                letter.counted.clicks ? percent(p.clicked, p.delivered) : 'not counted',
                figure(p.left),
                figure(p.bounced),
                ...(underWay ? [figure(p.waiting)] : []),
              ],
            }))}
          />
        </Section>
      )}
      {letter.problems.length > 0 && (
        <Section title="What went wrong" aside={letter.problems.length === 50 ? 'the first 50' : undefined}>
          <Table
            label="Letters that were not delivered"
            columns={[{ title: 'Address' }, { title: 'State' }, { title: 'What the mailbox said' }]}
            rows={letter.problems.map((p) => ({
              key: p.address,
              cells: [
                <span key="a" className="break-all">
                  {p.address}
                </span>,
                <Chip key="c" tone={p.state === 'queued' ? 'look' : 'mend'}>
                  {p.state === 'queued' ? 'tried again later' : p.state}
                </Chip>,
                <span key="r" className="text-ink-2">
                  {p.response}
                </span>,
              ],
            }))}
          />
        </Section>
      )}
    </Screen>
  );
}
