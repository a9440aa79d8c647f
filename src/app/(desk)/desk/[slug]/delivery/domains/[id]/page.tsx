import { RefreshCw } from 'lucide-react';
import type { Metadata } from 'next';
import { ago } from '@/core/growth/times';
import { zoneFile } from '@/core/senders/zone-file';
import { domainOf } from '@/server/senders/domains';
import { sendersOf } from '@/server/senders/senders';
import { ActionButton } from '@/ui/kit/action-form';
import { Copy } from '@/ui/kit/copy';
import { Chip, Note, Screen, Section, Standfirst } from '@/ui/kit/page';
import { RecordLedger } from '@/ui/senders/record-ledger';
import { deskOf, orNotFound } from '../../../../../../desk';
import { checkNow } from '../../actions';

export const metadata: Metadata = { title: 'Domain' };

export default async function Page({ params }: { params: Promise<{ slug: string; id: string }> }) {
  const { slug, id } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const domain = await orNotFound(domainOf(ctx, newsletter, id));
  const senders = (await sendersOf(ctx, newsletter)).filter((sender) => sender.domain === domain.name);
  const now = ctx.clock.now();
  const right = domain.records.filter((record) => record.judgement?.verdict === 'right').length;
  const minutes = Math.max(1, Math.round((domain.nextCheckAt.getTime() - now.getTime()) / 60_000));
  return (
    <Screen
      margin={
        <>
          <Section title="Why it matters">
            <Note tone="fine" title="Your own domain">
              Mailbox providers remember how people treat mail from {domain.name}. That good name is yours and moves with you.
            </Note>
            {domain.records.find((r) => r.purpose === 'return-path')?.judgement?.verdict !== 'right' && (
              <Note tone="mend" title="Bounces go astray">
                Until the bounce record is right, dead addresses stay on your list and letters wait.
              </Note>
            )}
            <Note tone="know" title="Changed it already?">
              Your host says an answer may be remembered for a while, often an hour. We look again by ourselves, in {minutes} min,
              and at longer intervals after that.
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
      <Standfirst
        title={domain.name}
        trail={[{ label: 'Delivery', href: `/desk/${slug}/delivery` }]}
        actions={
          <>
            <span className="flex items-center rounded-md border bg-sheet px-2">
              <Copy text={zoneFile(domain.name, domain.records)} what="all records as a zone file" label="Zone file" />
            </span>
            <ActionButton tone="main" action={checkNow.bind(null, slug, id)} done="Asked your name servers just now.">
              <RefreshCw size={15} aria-hidden /> Check now
            </ActionButton>
          </>
        }
      >
        <b>
          {right} of {domain.records.length} records
        </b>{' '}
        are right.{' '}
        {domain.state === 'authenticated'
          ? 'Letters from this domain are signed, aligned and believed.'
          : 'Publish the rest at your DNS host; letters from this domain leave once they stand.'}
      </Standfirst>
      <Section
        title="Records at your DNS host"
        aside={domain.checkedAt ? `checked ${ago(domain.checkedAt, now)}, next check in ${minutes} min` : 'not checked yet'}
      >
        <RecordLedger records={domain.records} />
      </Section>
    </Screen>
  );
}
