import type { Metadata } from 'next';
import Link from 'next/link';
import { counted } from '@/core/growth/figures';
import { spokenTime } from '@/core/growth/times';
import { domainsOf } from '@/server/senders/domains';
import { sendersOf } from '@/server/senders/senders';
import { ActionButton, ActionForm, TextField } from '@/ui/kit/action-form';
import { Chip, Note, Screen, Section, Sheet, Standfirst } from '@/ui/kit/page';
import { Table } from '@/ui/kit/table';
import { deskOf } from '../../../../desk';
import { makeDomain, makeSender, sendProofAgain } from './actions';

export const metadata: Metadata = { title: 'Delivery' };

export default async function Page({ params }: { params: Promise<{ slug: string }> }) {
  const { slug } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const [senders, domains] = await Promise.all([sendersOf(ctx, newsletter), domainsOf(ctx, newsletter)]);
  const now = ctx.clock.now();
  const confirmed = senders.filter((sender) => sender.state === 'confirmed').length;
  const proven = domains.filter((domain) => domain.state === 'authenticated').length;
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
                <TextField
                  name="name"
                  label="Name"
                  placeholder="Ottoline Vance"
                  hint="The first thing a reader looks at: a person, a title or a topic."
                />
                <TextField name="address" type="email" label="Address" placeholder="letters@lanternfish.example" />
                <TextField name="replyTo" type="email" label="Reply address" hint="Only if replies should go elsewhere." />
              </ActionForm>
            </Sheet>
          </Section>
          <Section title="Add a domain">
            <Sheet className="mt-3">
              <ActionForm action={makeDomain.bind(null, slug)} submit="Add domain" tone="plain">
                <TextField
                  name="name"
                  label="Domain"
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
        </>
      }
    >
      <Standfirst title="Delivery">
        {senders.length === 0 ? (
          <>Mailboxes believe a letter whose sender can be proven. Start with the address your letters come from.</>
        ) : (
          <>
            <b>{confirmed}</b> of {counted(senders.length, 'sender is', 'senders are')} confirmed, and{' '}
            {domains.length === 0 ? (
              'no domain is added yet'
            ) : (
              <>
                <b>{proven}</b> of {counted(domains.length, 'domain is', 'domains are')} authenticated
              </>
            )}
            .
          </>
        )}
      </Standfirst>
      <Section title="Senders">
        {senders.length === 0 && <p className="py-4 text-ink-2">None yet. Add one on the right.</p>}
        {senders.length > 0 && (
          <Table
            label="Senders"
            columns={[{ title: 'Name' }, { title: 'Address' }, { title: 'State' }]}
            rows={senders.map((sender) => ({
              key: sender.id,
              cells: [
                <b key="n">{sender.name}</b>,
                <div key="a" className="max-w-md">
                  <span className="break-all">{sender.address}</span>
                  {sender.replyTo && <span className="block text-small text-ink-2">replies to {sender.replyTo}</span>}
                  {sender.warning && <span className="block text-small text-ochre">{sender.warning}</span>}
                </div>,
                sender.state === 'confirmed' ? (
                  <Chip key="s" tone="fine">
                    Confirmed
                  </Chip>
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
            columns={[{ title: 'Domain' }, { title: 'Records right' }, { title: 'State' }, { title: 'Checked', figure: true }]}
            rows={domains.map((domain) => ({
              key: domain.id,
              cells: [
                <Link key="d" href={`/desk/${slug}/delivery/domains/${domain.id}`} className="font-semibold hover:underline">
                  {domain.name}
                </Link>,
                `${domain.records.filter((record) => record.judgement?.verdict === 'right').length} of ${domain.records.length}`,
                <Chip key="s" tone={domain.state === 'authenticated' ? 'fine' : 'look'}>
                  {domain.state === 'authenticated' ? 'Signed and aligned' : 'Records missing'}
                </Chip>,
                <span key="c" className="text-ink-2">
                  {domain.checkedAt ? spokenTime(domain.checkedAt, now, newsletter.time_zone) : 'in a moment'}
                </span>,
              ],
            }))}
          />
        )}
      </Section>
      <p className="text-ink-2">
        Bounces and complaints by provider, DMARC reports and the ramp-up of a new domain will stand here too. They are not built
        yet.
      </p>
    </Screen>
  );
}
