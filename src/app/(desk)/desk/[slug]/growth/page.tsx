import type { Metadata } from 'next';
import { Screen, Standfirst } from '@/ui/kit/page';
import { deskOf } from '../../../../desk';

export const metadata: Metadata = { title: 'Growth' };

export default async function Page({ params }: { params: Promise<{ slug: string }> }) {
  await deskOf((await params).slug);
  return (
    <Screen>
      <Standfirst title="Growth">
        Here will stand where readers come from, form by form and page by page, where confirmations get lost, and who stays. It is
        not built yet; the last 28 days are on Today.
      </Standfirst>
    </Screen>
  );
}
