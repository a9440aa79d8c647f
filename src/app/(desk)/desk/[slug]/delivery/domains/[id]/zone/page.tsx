import type { Metadata } from 'next';
import { domainOf } from '@/server/senders/domains';
import { Note, Screen, Standfirst } from '@/ui/kit/page';
import { ZoneTrial } from '@/ui/senders/zone-trial';
import { deskOf, orNotFound } from '../../../../../../../desk';
import { tryZone } from '../../../actions';

export const metadata: Metadata = { title: 'Try a zone file' };

export default async function Page({ params }: { params: Promise<{ slug: string; id: string }> }) {
  const { slug, id } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const domain = await orNotFound(domainOf(ctx, newsletter, id));
  const base = `/desk/${slug}/delivery`;
  return (
    <Screen
      margin={
        <Note tone="know" title="Where to find it">
          Most DNS hosts export the zone as a text file (BIND format, RFC 1035). Nothing is published or kept by trying it here.
        </Note>
      }
    >
      <Standfirst
        title="Try a zone file"
        trail={[
          { label: 'Delivery', href: base },
          { label: domain.name, href: `${base}/domains/${id}` },
        ]}
      >
        Paste the zone of {domain.zone ?? domain.name} as it is or as it will be, and see what mailboxes would make of it.
      </Standfirst>
      <ZoneTrial attempt={tryZone.bind(null, slug, id)} />
    </Screen>
  );
}
