import type { Metadata } from 'next';
import Link from 'next/link';
import { asFault } from '@/core/faults';
import { invitationOf } from '@/server/newsletters/members';
import { runtime } from '@/server/runtime';
import { PressOnce } from '@/ui/kit/press-once';
import { personHere } from '../../../desk';
import { accept } from '../../actions';
import { Said } from '../../said';

export const metadata: Metadata = { title: 'Invitation', robots: { index: false } };
export const dynamic = 'force-dynamic';

export default async function Page({ params }: { params: Promise<{ token: string }> }) {
  const { token } = await params;
  const person = await personHere();
  const found = await invitationOf(await runtime(), token).catch(asFault);
  const away = (
    <p className="mt-5">
      <Link href="/" className="link font-semibold">
        Go to the desk
      </Link>
    </p>
  );
  if (!('newsletter' in found))
    return (
      <Said title="This invitation does not work" sentence={found.sentence}>
        {away}
      </Said>
    );
  if (found.email.toLowerCase() !== person.email.toLowerCase())
    return (
      <Said
        title="This invitation is for somebody else"
        sentence={`It is for ${found.email}, and you are signed in as ${person.email}. Sign in with that address.`}
      >
        {away}
      </Said>
    );
  return (
    <Said title={`Help with ${found.newsletter}`} sentence={`You are invited as ${found.role}: you ${found.does}.`}>
      <PressOnce action={accept.bind(null, token)} button="Accept the invitation" />
    </Said>
  );
}
