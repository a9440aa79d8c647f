import { RefreshCw, Send } from 'lucide-react';
import type { Metadata } from 'next';
import Link from 'next/link';
import { localDay } from '@/core/growth/days';
import { counted, figure } from '@/core/growth/figures';
import { ago, shortDay, spokenTime } from '@/core/growth/times';
import { holds } from '@/core/senders/judge';
import { recordsAsText, zoneFile } from '@/core/senders/zone-file';
import { domainReports } from '@/server/delivery/domain-reports';
import { checksOf, domainOf } from '@/server/senders/domains';
import { sendersOf } from '@/server/senders/senders';
import { rampOf } from '@/server/sending/ramp';
import { lastTestLetter } from '@/server/sending/test-letter';
import { PolicyNote, Reported } from '@/ui/delivery/domain-reports';
import { ActionButton, TextField } from '@/ui/kit/action-form';
import { Copy } from '@/ui/kit/copy';
import { ActionDialog } from '@/ui/kit/dialog';
import { Chip, Note, Screen, Section, Standfirst } from '@/ui/kit/page';
import { Refreshing } from '@/ui/kit/refreshing';
import { Table } from '@/ui/kit/table';
import { LedgerFoot, RecordLedger } from '@/ui/senders/record-ledger';
import { TestVerdicts } from '@/ui/senders/test-verdicts';
import { deskOf, orNotFound } from '../../../../../../desk';
import { changeRamp, checkNow, dropDomain, letCount, testLetter, turnKey } from '../../actions';

export const metadata: Metadata = { title: 'Domain' };

export default async function Page({ params }: { params: Promise<{ slug: string; id: string }> }) {
  const { slug, id } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const domain = await orNotFound(domainOf(ctx, newsletter, id));
  const [all, checks, letter, ramp, reports] = await Promise.all([
    sendersOf(ctx, newsletter),
    checksOf(ctx, newsletter, id),
    lastTestLetter(ctx, newsletter, id),
    rampOf(ctx, newsletter, domain),
    domainReports(ctx, domain.id),
  ]);
  const senders = all.filter((sender) => sender.domain === domain.name);
  const now = ctx.clock.now();
  const zone = newsletter.time_zone;
  const needed = domain.records.filter((record) => record.needed);
  const right = needed.filter((record) => holds(record.judgement?.verdict)).length;
  const minutes = Math.max(1, Math.round((domain.nextCheckAt.getTime() - now.getTime()) / 60_000));
  const key = (role: string) => domain.keys.find((entry) => entry.role === role);
  const next = domain.records.find((record) => record.purpose === 'dkim-next');
  const waitsForAnswer = letter !== null && !letter.verdicts && now.getTime() - letter.sentAt.getTime() < 120_000;
  const { facts } = domain;
  const today = localDay(now, zone);
  return (
    <Screen
      margin={
        <>
          <Section title="Test letter" aside={letter ? ago(letter.sentAt, now) : undefined}>
            {letter ? (
              <TestVerdicts letter={letter} waits={waitsForAnswer} />
            ) : (
              <p className="py-2.5 text-[13px] text-ink-2">
                A real letter, the way every letter goes: one copy to you, one to a mailbox that says what it thought of it.
              </p>
            )}
            {domain.state !== 'authenticated' && (
              <Note tone="look" title="Only to yourself">
                Until the needed records are right, nothing but this letter may leave from {domain.name}: mailboxes would take it
                for a forgery, and remember.
              </Note>
            )}
          </Section>
          <Section title="What we found">
            <PolicyNote reports={reports} paste={facts.nextStep?.paste ?? null} />
            {facts.envelope && (
              <Note
                tone={facts.envelope.result === 'pass' ? 'fine' : 'look'}
                title={`SPF of the return path: ${facts.envelope.result}`}
              >
                {facts.envelope.reason}
              </Note>
            )}
            {facts.nextStep && !reports.step && (
              <Note tone="know" title={`You can go to ${facts.nextStep.policy}`}>
                Every check has been good for two weeks. Put this in place of the policy:{' '}
                <span className="font-mono text-[12px] break-all text-ink">{facts.nextStep.paste}</span>{' '}
                <Copy text={facts.nextStep.paste} what="the next policy" />
              </Note>
            )}
            {(facts.disagreed ?? []).length > 0 && (
              <Note tone="look" title="Your name servers do not agree">
                About {facts.disagreed?.join(', ')}. The change is probably still on its way from one to the other.
              </Note>
            )}
            <Note tone="know" title="Changed it already?">
              We ask your name servers themselves, so nothing old gets in the way. We look again in {minutes} min, and at longer
              intervals while nothing changes.
            </Note>
          </Section>
          <Section title="Senders here" aside={senders.length || undefined}>
            {senders.length === 0 && <p className="py-2.5 text-ink-2">No from-address at this domain yet.</p>}
            {senders.map((sender) => (
              <p key={sender.id} className="border-b border-rule-2 py-2 text-[13px]">
                <b className="mr-1.5">{sender.name}</b>
                <Chip tone={sender.state === 'confirmed' ? 'fine' : 'look'}>
                  {sender.state === 'confirmed' ? 'Confirmed' : 'Awaiting click'}
                </Chip>
                <span className="block break-all text-ink-2">{sender.address}</span>
              </p>
            ))}
          </Section>
        </>
      }
    >
      {waitsForAnswer && <Refreshing seconds={2} />}
      <Standfirst
        title={domain.name}
        trail={[{ label: 'Delivery', href: `/desk/${slug}/delivery` }]}
        actions={
          <>
            <ActionButton action={testLetter.bind(null, slug, id)} said="said">
              <Send size={15} aria-hidden /> Send a test letter
            </ActionButton>
            <ActionButton tone="main" action={checkNow.bind(null, slug, id)} done="Asked your name servers just now.">
              <RefreshCw size={15} aria-hidden /> Check now
            </ActionButton>
          </>
        }
      >
        <b>
          {right} of {needed.length} records
        </b>{' '}
        are right.{' '}
        {domain.state === 'authenticated'
          ? 'Letters from this domain are signed, aligned and believed.'
          : 'Publish the rest at your DNS host; letters from this domain leave once they stand.'}
      </Standfirst>

      <Section
        title="Records at your DNS host"
        aside={
          domain.checkedAt
            ? `checked ${ago(domain.checkedAt, now)}${domain.nameServers.length ? ` at ${counted(domain.nameServers.length, 'name server', 'name servers')}` : ''}, next check in ${minutes} min`
            : 'not checked yet'
        }
      >
        <RecordLedger records={domain.records} remembered={facts.remembered} />
        <LedgerFoot zone={domain.zone} />
        <div className="mt-3 flex flex-wrap gap-2">
          <span className="rounded-md border bg-sheet px-2 py-1">
            <Copy text={zoneFile(domain.name, domain.records)} what="all records as a zone file" label="All as a zone file" />
          </span>
          <span className="rounded-md border bg-sheet px-2 py-1">
            <Copy
              text={recordsAsText(domain.name, newsletter.name, domain.records)}
              what="all records as a text to send on"
              label="All as a text to send on"
            />
          </span>
          <Link href={`/desk/${slug}/delivery/domains/${id}/zone`} className="link self-center px-1 text-[13px] font-semibold">
            Try a zone file first
          </Link>
        </div>
      </Section>

      <Reported
        reports={reports}
        name={domain.name}
        upload={`/desk/${slug}/delivery/domains/${id}/reports`}
        letCount={letCount.bind(null, slug)}
        now={now}
        zone={zone}
      />

      <Section title="Keys" aside="change them about once a year">
        <Table
          label="Keys"
          columns={[{ title: 'Name' }, { title: 'Kind' }, { title: 'State' }, { title: 'Made', figure: true }]}
          rows={domain.keys
            .filter((entry) => entry.role !== 'retired' || now.getTime() - entry.createdAt.getTime() < 40 * 86_400_000)
            .map((entry) => ({
              key: entry.selector,
              cells: [
                <span key="s" className="font-mono text-[13px]">
                  {entry.selector}
                </span>,
                entry.algorithm === 'rsa' ? 'RSA, 2048 bits' : 'Ed25519',
                <Chip key="c" tone={entry.role === 'retired' ? 'know' : entry.role === 'next' ? 'look' : 'fine'}>
                  {
                    {
                      active: 'signs letters',
                      next: 'comes next',
                      second: 'signs beside it',
                      retired: 'retired; its record may go after a week',
                    }[entry.role]
                  }
                </Chip>,
                <span key="t" className="text-ink-2">
                  {spokenTime(entry.createdAt, now, zone)}
                </span>,
              ],
            }))}
        />
        <div className="mt-3 flex flex-wrap gap-2">
          {!key('next') && (
            <ActionButton
              action={turnKey.bind(null, slug, id, 'prepare')}
              done="The next key stands in the ledger above. Publish it."
            >
              Prepare the next key
            </ActionButton>
          )}
          {key('next') && (
            <ActionButton
              tone={next?.judgement?.verdict === 'right' ? 'main' : 'plain'}
              action={turnKey.bind(null, slug, id, 'use')}
              done="The next key signs letters now."
            >
              Take the next key into use
            </ActionButton>
          )}
          <ActionButton
            action={turnKey.bind(null, slug, id, key('second') ? 'second-off' : 'second-on')}
            done={
              key('second')
                ? 'The second signature is gone.'
                : 'Publish the Ed25519 key above; letters carry it once it is found.'
            }
          >
            {key('second') ? 'Take the Ed25519 key away' : 'Add an Ed25519 key beside it'}
          </ActionButton>
          <ActionButton
            action={turnKey.bind(null, slug, id, domain.keysByAlias ? 'aliases-off' : 'aliases-on')}
            done={
              domain.keysByAlias
                ? 'The keys themselves have to stand at your DNS host again.'
                : 'Publish the two aliases above once; later changes of keys need nothing from you.'
            }
          >
            {domain.keysByAlias ? 'Publish the keys themselves' : 'Publish aliases instead of keys'}
          </ActionButton>
        </div>
      </Section>

      <Section title="Ramp-up" aside={ramp ? `day ${ramp.dayNumber} of ${ramp.days}` : 'off'}>
        <div className="flex flex-wrap items-start justify-between gap-4 py-3">
          <p className="max-w-xl text-ink-2">
            {ramp ? (
              ramp.ahead.length ? (
                <>
                  Today’s ceiling is <b className="text-ink">{figure(ramp.ahead[0]?.ceiling ?? 0)}</b> letters
                  {ramp.ahead[1] && (
                    <>
                      ; tomorrow’s <b className="text-ink">{figure(ramp.ahead[1].ceiling)}</b>
                    </>
                  )}
                  . What is over a day’s ceiling leaves on the days after, the readers who opened most lately first. The steps
                  stop by themselves when people complain.
                </>
              ) : (
                'The whole volume is reached. Letters leave all at once again.'
              )
            ) : (
              'A new domain that suddenly sends thousands of letters is taken for spam. A ramp-up raises the daily volume step by step and lets the rest of a letter leave on the next days.'
            )}
          </p>
          <div className="flex gap-2">
            <ActionDialog
              opens={ramp ? 'Adjust' : 'Plan a ramp-up'}
              title={ramp ? 'Adjust the ramp-up' : 'Plan a ramp-up'}
              words="Leave a field empty to have it set for the size of your list."
              submit={ramp ? 'Adjust' : 'Start today'}
              done="Letters keep to it from now on"
              action={changeRamp.bind(null, slug, id)}
            >
              <TextField name="first" type="number" label="Letters on the first day" defaultValue={ramp?.plan.first} />
              <TextField name="days" type="number" label="Days until the full volume" defaultValue={ramp?.plan.days} />
              <TextField name="volume" type="number" label="Full volume a day" defaultValue={ramp?.plan.volume} />
              <input type="hidden" name="startedOn" value={ramp?.plan.startedOn ?? today} />
            </ActionDialog>
            {ramp && (
              <ActionDialog
                opens="End it"
                title="End the ramp-up?"
                words="The next letter leaves all at once. Letters under way keep their days."
                submit="End it"
                done="Ended"
                action={changeRamp.bind(null, slug, id)}
              >
                <input type="hidden" name="end" value="1" />
              </ActionDialog>
            )}
          </div>
        </div>
        {ramp && ramp.ahead.length > 0 && (
          <Table
            label="Ceilings of the next days"
            columns={[
              { title: 'Day' },
              { title: 'Ceiling', figure: true },
              { title: 'Planned', figure: true },
              { title: 'Room', figure: true },
            ]}
            rows={ramp.ahead.slice(0, 8).map((day) => ({
              key: day.day,
              cells: [
                day.day === today ? 'Today' : shortDay(day.day),
                figure(day.ceiling),
                figure(day.planned),
                figure(Math.max(0, day.ceiling - day.planned)),
              ],
            }))}
          />
        )}
      </Section>

      <Section title="What the checks found" aside={checks.length ? 'the latest, and each that found something else' : undefined}>
        <Table
          label="Checks"
          columns={[{ title: 'When' }, { title: 'Outcome' }, { title: 'Records' }, { title: 'Took', figure: true }]}
          rows={checks.map((check, n) => ({
            key: `${check.at.getTime()}-${n}`,
            cells: [
              <span key="t" className="whitespace-nowrap text-ink-2">
                {spokenTime(check.at, now, zone)}
              </span>,
              <span key="o">
                {check.state === 'authenticated'
                  ? 'all needed records right'
                  : check.state === 'unknown'
                    ? 'no answer'
                    : 'not complete'}
                {check.changed && <b className="ml-1.5 text-small">changed</b>}
              </span>,
              <span key="r" className="text-small text-ink-2">
                {check.verdicts
                  .filter((entry) => !['right', 'absent'].includes(entry.verdict))
                  .map(
                    (entry) =>
                      `${domain.records.find((record) => record.purpose === entry.purpose)?.title ?? entry.purpose}: ${entry.label.toLowerCase()}`,
                  )
                  .join('; ') || 'nothing to mend'}
              </span>,
              `${figure(check.tookMs)}\u00a0ms`,
            ],
          }))}
        />
      </Section>
      <ActionDialog
        opens="Remove this domain"
        opensTone="quiet"
        tone="harm"
        title={`Remove ${domain.name}?`}
        words="Its keys are destroyed, and its records at your DNS host are of no use any more."
        submit="Remove"
        action={dropDomain.bind(null, slug, id)}
      />
    </Screen>
  );
}
