import type { Metadata } from 'next';
import Link from 'next/link';
import { asFault } from '@/core/faults';
import { acceptInvitation } from '@/server/newsletters/members';
import { runtime } from '@/server/runtime';
import { personHere } from '../../../desk';

export const metadata: Metadata = { title: 'Invitation', robots: { index: false } };
export const dynamic = 'force-dynamic';

export default async function Page({ params }: { params: Promise<{ token: string }> }) {
  const { token } = await params;
  const person = await personHere();
  const said = await acceptInvitation(await runtime(), person, token).then(
    (newsletter) => ({
      title: `Welcome to ${newsletter.name}`,
      sentence: 'You are a member now.',
      href: `/desk/${newsletter.slug}/today`,
    }),
    (error: unknown) => ({ title: 'This invitation does not work', sentence: asFault(error).sentence, href: '/' }),
  );
  return (
    <main className="mx-auto max-w-xl px-5 py-[16vh]">
      <h1 className="font-serif text-title">{said.title}</h1>
      <p className="mt-2 font-serif text-standfirst text-ink-2">{said.sentence}</p>
      <p className="mt-5">
        <Link href={said.href} className="link font-semibold">
          Go to the desk
        </Link>
      </p>
    </main>
  );
}
