import type { Metadata } from 'next';
import Link from 'next/link';
import { asFault } from '@/core/faults';
import { runtime } from '@/server/runtime';
import { proofOf } from '@/server/senders/senders';
import { PressOnce } from '@/ui/kit/press-once';
import { prove } from '../../actions';
import { Said } from '../../said';

export const metadata: Metadata = { title: 'Sender', robots: { index: false } };
export const dynamic = 'force-dynamic';

export default async function Page({ params }: { params: Promise<{ token: string }> }) {
  const { token } = await params;
  const proof = await proofOf(await runtime(), token).catch(asFault);
  const desk = (href: string) => (
    <p className="mt-5">
      <Link href={href} className="link font-semibold">
        Go to your desk
      </Link>
    </p>
  );
  if (!('address' in proof))
    return (
      <Said title="This link does not work" sentence={proof.sentence}>
        {desk('/')}
      </Said>
    );
  const { address, newsletter, done } = proof;
  if (done)
    return (
      <Said title="This address is confirmed" sentence={`${newsletter.name} may send letters from ${address}.`}>
        {desk(`/desk/${newsletter.slug}/delivery`)}
      </Said>
    );
  return (
    <Said title="Is this address yours?" sentence={`${newsletter.name} would like to send letters from ${address}.`}>
      <PressOnce action={prove.bind(null, token)} button="Yes, it is mine" byItself />
    </Said>
  );
}
