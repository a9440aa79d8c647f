import type { Metadata } from 'next';
import Link from 'next/link';
import { landedWords, placesNow } from '@/core/delivery/seeds';
import { NO_COPIES, plus, settledOf } from '@/core/delivery/standing';
import { localDay } from '@/core/growth/days';
import { counted, figure, percent, plural } from '@/core/growth/figures';
import { lengthOf, lookedAt } from '@/core/growth/periods';
import { dayOfYear, spokenTime } from '@/core/growth/times';
import { rulesFor } from '@/server/delivery/rules';
import { seedBoxes, seedTests } from '@/server/delivery/seeds';
import { deliveryOf } from '@/server/delivery/standing';
import { warningsNow } from '@/server/growth/watch';
import { AGES, queueOf } from '@/server/mail/queue';
import { relayOf } from '@/server/mail/relay';
import { domainsOf } from '@/server/senders/domains';
import { type SenderView, sendersOf } from '@/server/senders/senders';
import { rampDone } from '@/server/sending/ramp';
import { ProvidersByWeek } from '@/ui/delivery/providers-by-week';
import { RampDays } from '@/ui/delivery/ramp-days';
import { ComplaintLine, Reasons, Standings } from '@/ui/delivery/standing';
import { PeriodNav } from '@/ui/growth/period-nav';
import { Warnings } from '@/ui/growth/warnings';
import { ActionButton, ActionForm, TextField } from '@/ui/kit/action-form';
import { ActionDialog } from '@/ui/kit/dialog';
import { Chip, Note, Screen, Section, Sheet, Standfirst } from '@/ui/kit/page';
import { Table } from '@/ui/kit/table';
import { deskOf } from '../../../../desk';
import { chooseDefault, dropSender, editSender, makeDomain, makeSender, sendProofAgain } from './actions';

export const metadata: Metadata = { title: 'Delivery' };

const SenderFields = ({ sender }: { sender?: SenderView }) => (
  <>
    <TextField
      name="name"
      label="Name"
      defaultValue={sender?.name}
      placeholder="Ottoline Vance"
      hint="The first thing a reader looks at: a person, a title or a topic."
    />
    <TextField
      name="address"
      type="email"
      label="Address"
      defaultValue={sender?.address}
      placeholder="letters@lanternfish.example"
      hint={sender ? 'Another address has to be proven by a mailed link; until then its letters wait.' : undefined}
    />
    <TextField
      name="replyTo"
      type="email"
      label="Reply address"
      defaultValue={sender?.replyTo ?? undefined}
      hint="Only if replies should go elsewhere."
    />
  </>
);

const usedWords = ({ used }: SenderView) =>
  [
    used.sent ? `${counted(used.sent, 'letter', 'letters')} sent` : '',
    used.waiting ? `${used.waiting} waiting` : '',
    used.rules ? counted(used.rules, 'auto-send', 'auto-sends') : '',
  ]
    .filter(Boolean)
    .join(', ') || 'not used yet';

type Props = { params: Promise<{ slug: string }>; searchParams: Promise<Record<string, string | undefined>> };

export default async function Page({ params, searchParams }: Props) {
  const { slug } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const today = localDay(ctx.clock.now(), newsletter.time_zone);
  const { days: asked, ...looked } = lookedAt({ days: (await searchParams).days }, 90, today);
  const days = lengthOf(asked);
  const [delivery, unusual, boxes, [tried], queue, senders, domains, relay] = await Promise.all([
    deliveryOf(ctx, newsletter, days),
    warningsNow(ctx, newsletter, ['complaints', 'refuses']),
    seedBoxes(ctx, newsletter),
    seedTests(ctx, newsletter),
    queueOf(ctx, newsletter.id),
    sendersOf(ctx, newsletter),
    domainsOf(ctx, newsletter),
    relayOf(ctx, newsletter),
  ]);
  const { standings, reasons, feedback } = delivery;
  const since = `${dayOfYear(delivery.since)}${delivery.since.slice(0, 4) === today.slice(0, 4) ? '' : ` ${delivery.since.slice(0, 4)}`}`;
  const copies = standings.map((one) => one.copies).reduce(plus, NO_COPIES);
  const settled = settledOf(copies);
  // What else was reported; complaints themselves are counted with their letters.
  const others = feedback.filter(({ kind }) => kind !== 'complaint');
  const troubled = standings.filter(({ tone }) => tone === 'mend' || tone === 'look');
  const main = senders.find((sender) => sender.isDefault) ?? senders[0];
  const domain = domains.find((one) => one.name === main?.domain);
  const ramps = (
    await Promise.all(domains.map(async (one) => ({ name: one.name, days: await rampDone(ctx, newsletter, one) })))
  ).filter(({ days: done }) => done.length > 0);
  const rules = main ? await rulesFor(ctx, newsletter, main.domain, domain, relay?.switchedOn ?? false, copies) : [];
  const now = ctx.clock.now();
  const confirmed = senders.filter((sender) => sender.state === 'confirmed').length;
  const proven = domains.filter((domain) => domain.state === 'authenticated').length;
  const without = [...new Set(senders.map((sender) => sender.domain))].filter(
    (name) => !domains.some((domain) => domain.name === name),
  );
  return (
    <Screen
      margin={
        <>
          <Section title="Add a sender">
            <Sheet className="mt-3">
              <ActionForm
                action={makeSender.bind(null, slug)}
                submit="Add sender"
                done="A link is on its way to that address."
                clears
                tone={senders.length ? 'plain' : 'main'}
              >
                <SenderFields />
              </ActionForm>
            </Sheet>
          </Section>
          <Section title="Add a domain">
            <Sheet className="mt-3">
              <ActionForm action={makeDomain.bind(null, slug)} submit="Add domain" tone="plain">
                <TextField
                  name="name"
                  label="Domain"
                  defaultValue={without[0]}
                  placeholder="lanternfish.example"
                  hint="What stands after the @ of your from-address."
                  mono
                />
              </ActionForm>
            </Sheet>
          </Section>
          <Note tone="know" title="Two proofs">
            The clicked link shows that a mailbox is yours; the records show that the domain is. Letters leave when both hold.
          </Note>
          <Note
            tone="know"
            title={relay?.switchedOn ? `Through ${relay.host}` : 'Straight to the mailboxes'}
            action={{ label: 'SMTP service', href: `/desk/${slug}/settings/relay` }}
          >
            {relay?.switchedOn
              ? 'Letters leave through your own SMTP service.'
              : 'Letters go to each provider directly. You can use an SMTP service of your own instead.'}
          </Note>
        </>
      }
    >
      <Standfirst title="Delivery" actions={settled > 0 && <PeriodNav looked={looked} today={today} />}>
        {senders.length === 0 ? (
          <>Mailboxes believe a letter whose sender can be proven. Start with the address your letters come from.</>
        ) : settled > 0 ? (
          <>
            Since {since} <b>{percent(copies.delivered, settled)}</b> of {figure(settled)} copies were taken
            {troubled.length === 0 ? (
              standings.some(({ tone }) => tone === 'fine') ? (
                ', and no provider treats your letters badly.'
              ) : (
                '; too few went anywhere lately to say how providers treat them.'
              )
            ) : (
              <>
                ; <b>{troubled[0]!.name}</b> {troubled[0]!.state.charAt(0).toLowerCase() + troubled[0]!.state.slice(1)}
                {troubled.length > 1 ? `, and ${counted(troubled.length - 1, 'more wants', 'more want')} a look.` : '.'}
              </>
            )}
          </>
        ) : (
          <>
            <b>{confirmed}</b> of {counted(senders.length, 'sender', 'senders')} {plural(confirmed, 'is', 'are')} confirmed, and{' '}
            {domains.length === 0 ? (
              'no domain is added yet'
            ) : (
              <>
                <b>{proven}</b> of {counted(domains.length, 'domain', 'domains')} {plural(proven, 'is', 'are')} authenticated
              </>
            )}
            .
          </>
        )}
      </Standfirst>
      <Warnings warnings={unusual} />
      {settled > 0 && (
        <>
          <Section title="How providers treat your letters" aside={`letters since ${since}`}>
            <Standings standings={standings} boxes={placesNow(tried, now)} />
            <p className="mt-2 max-w-3xl text-small text-ink-2">
              Nobody outside a mailbox sees into its junk. The range is what reading suggests: how much less is read there in this
              week and the four before it than in the half year before, beside the other providers. It holds in nine of ten cases;
              what always lay in junk is not seen.
            </p>
            <ProvidersByWeek lines={delivery.lines} />
          </Section>
          <Section
            title="Where letters land in your own boxes"
            aside={
              <Link href={`/desk/${slug}/delivery/boxes`} className="link">
                {boxes.length ? 'Try a letter' : 'Add boxes'}
              </Link>
            }
          >
            <p className="py-2.5 text-ink-2">
              {tried ? (
                <>
                  “{tried.subject}”, {spokenTime(tried.at, now, newsletter.time_zone)}. {landedWords(tried.copies)}
                </>
              ) : (
                'Send a letter to mailboxes of your own at several providers, and see whether it comes to the inbox.'
              )}
            </p>
          </Section>
          <Section
            title="Complaints"
            aside={others.length ? others.map(({ kind, n }) => `${figure(n)} ${kind}`).join(', ') : undefined}
          >
            <ComplaintLine complained={copies.complained} delivered={copies.delivered} />
          </Section>
          {reasons.length > 0 && (
            <Section title="Why letters did not arrive" aside="in the servers’ own words">
              <Reasons reasons={reasons} />
            </Section>
          )}
        </>
      )}
      {ramps.map((one) => (
        <Section key={one.name} title="Ramp-up against its plan" aside={one.name}>
          <RampDays domain={one.name} days={one.days} />
        </Section>
      ))}
      {rules.length > 0 && (
        <Section title="What large providers ask of whoever sends many letters" aside={main?.domain}>
          <Table
            label="Rules for many letters"
            columns={[{ title: 'Rule' }, { title: 'State' }, { title: 'Proof' }]}
            rows={rules.map((rule) => ({
              key: rule.name,
              cells: [
                rule.name,
                <Chip key="s" tone={rule.state === 'kept' ? 'fine' : rule.state === 'broken' ? 'mend' : 'know'}>
                  {rule.state === 'kept' ? 'Kept' : rule.state === 'broken' ? 'Broken' : 'Not known'}
                </Chip>,
                <span key="p" className="block max-w-xl text-small text-ink-2">
                  {rule.proof}
                </span>,
              ],
            }))}
          />
        </Section>
      )}
      <Section title="Senders">
        {senders.length === 0 && <p className="py-4 text-ink-2">None yet. Add one on the right.</p>}
        {senders.length > 0 && (
          <Table
            label="Senders"
            columns={[
              { title: 'Name and address' },
              { title: 'Used', hideNarrow: true },
              { title: 'State' },
              { title: 'What to do', silent: true },
            ]}
            rows={senders.map((sender) => ({
              key: sender.id,
              id: sender.id,
              cells: [
                <div key="a" className="max-w-md">
                  <b>{sender.name}</b>
                  <span className="block break-all">{sender.address}</span>
                  {sender.replyTo && <span className="block text-small text-ink-2">replies to {sender.replyTo}</span>}
                  {sender.warnings.map((warning) => (
                    <span key={warning} className="mt-1 block border-l-2 border-l-ochre pl-2 text-small text-ink-2">
                      {warning}
                    </span>
                  ))}
                </div>,
                <span key="u" className="text-small text-ink-2">
                  {usedWords(sender)}
                </span>,
                sender.state === 'confirmed' ? (
                  <span key="s" className="flex flex-wrap gap-1.5">
                    <Chip tone="fine">Confirmed</Chip>
                    {sender.isDefault && <Chip tone="know">starts new letters</Chip>}
                  </span>
                ) : (
                  <div key="s" className="flex flex-wrap items-center gap-2">
                    <Chip tone="look">Awaiting click</Chip>
                    {sender.proofSentAt && (
                      <span className="text-small text-ink-2">
                        sent {spokenTime(sender.proofSentAt, now, newsletter.time_zone)}
                      </span>
                    )}
                    <ActionButton
                      action={sendProofAgain.bind(null, slug, sender.id)}
                      done="Sent again. The newest link is the one that works."
                    >
                      Send again
                    </ActionButton>
                  </div>
                ),
                <span key="x" className="flex flex-wrap justify-end gap-x-3 gap-y-1">
                  <ActionDialog
                    opens="Change"
                    label={`Change ${sender.address}`}
                    opensTone="quiet"
                    title="Change this sender"
                    submit="Save"
                    done="Saved"
                    action={editSender.bind(null, slug, sender.id)}
                  >
                    <SenderFields sender={sender} />
                  </ActionDialog>
                  {sender.state === 'confirmed' && !sender.isDefault && (
                    <ActionDialog
                      opens="Start letters with it"
                      label={`Start new letters with ${sender.address}`}
                      opensTone="quiet"
                      title={`Start new letters with ${sender.name}?`}
                      words="Letters that are written already keep the sender they have. Confirmation mails come from this one too."
                      submit="Yes"
                      done="New letters start with it"
                      action={chooseDefault.bind(null, slug, sender.id)}
                    />
                  )}
                  <ActionDialog
                    opens="Remove"
                    label={`Remove ${sender.address}`}
                    opensTone="quiet"
                    tone="harm"
                    title={`Remove ${sender.address}?`}
                    words="Letters already sent keep its name. It can be added again, and has to be proven again then."
                    submit="Remove"
                    done="Removed"
                    action={dropSender.bind(null, slug, sender.id)}
                  />
                </span>,
              ],
            }))}
          />
        )}
      </Section>
      <Section title="Domains">
        {domains.length === 0 && (
          <p className="py-4 text-ink-2">None yet. Add the domain of your from-address, and we say which records it needs.</p>
        )}
        {domains.length > 0 && (
          <Table
            label="Domains"
            columns={[
              { title: 'Domain' },
              { title: 'Needed records right' },
              { title: 'State' },
              { title: 'Checked', figure: true },
            ]}
            rows={domains.map((domain) => {
              const needed = domain.records.filter((record) => record.needed);
              return {
                key: domain.id,
                cells: [
                  <Link key="d" href={`/desk/${slug}/delivery/domains/${domain.id}`} className="font-semibold hover:underline">
                    {domain.name}
                  </Link>,
                  `${needed.filter((record) => record.judgement?.verdict === 'right' || record.judgement?.verdict === 'look').length} of ${needed.length}`,
                  <Chip key="s" tone={domain.state === 'authenticated' ? 'fine' : 'look'}>
                    {domain.state === 'authenticated'
                      ? 'Signed and aligned'
                      : domain.state === 'unknown'
                        ? 'No answer yet'
                        : 'Records missing'}
                  </Chip>,
                  <span key="c" className="text-ink-2">
                    {domain.checkedAt ? spokenTime(domain.checkedAt, now, newsletter.time_zone) : 'in a moment'}
                  </span>,
                ],
              };
            })}
          />
        )}
      </Section>
      {(queue.rows.length > 0 || queue.aside.length > 0) && (
        <Section title="Waiting, by way and age" aside="mail that is due">
          {queue.rows.length > 0 && (
            <Table
              label="Mail that waits"
              columns={[
                { title: 'Way' },
                ...AGES.map((age) => ({ title: `under ${age} min`, figure: true, hideNarrow: age !== 5 && age !== 80 })),
                { title: 'older', figure: true },
              ]}
              rows={queue.rows.map((row) => ({
                key: row.route,
                cells: [
                  <span key="w">
                    <b>{row.route}</b>
                    {row.resting && (
                      <span className="block border-l-2 border-l-ochre pl-2 text-small text-ink-2">
                        {row.resting.reason}. Tried again {spokenTime(row.resting.until, now, newsletter.time_zone)}; its readers
                        are not to blame.
                      </span>
                    )}
                  </span>,
                  ...row.waiting.map((n) => (n ? figure(n) : '–')),
                ],
              }))}
            />
          )}
          {queue.aside.map((mail) => (
            <Note key={mail.id} tone="mend" title={`A ${mail.kind} to ${mail.to} was set aside`}>
              {mail.reason}
            </Note>
          ))}
        </Section>
      )}
    </Screen>
  );
}
