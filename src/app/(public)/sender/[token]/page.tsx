import type { Metadata } from 'next';
import Link from 'next/link';
import { asFault } from '@/core/faults';
import { runtime } from '@/server/runtime';
import { proveSender } from '@/server/senders/senders';

export const metadata: Metadata = { title: 'Sender', robots: { index: false } };
export const dynamic = 'force-dynamic';

export default async function Page({ params }: { params: Promise<{ token: string }> }) {
  const { token } = await params;
  const said = await proveSender(await runtime(), token).then(
    (proven) => ({
      title: 'This address is confirmed',
      sentence: `${proven.newsletter.name} may send letters from ${proven.address}.`,
      slug: proven.newsletter.slug,
    }),
    (error: unknown) => ({ title: 'This link does not work', sentence: asFault(error).sentence, slug: null }),
  );
  return (
    <main className="mx-auto max-w-xl px-5 py-[16vh]">
      <h1 className="font-serif text-title">{said.title}</h1>
      <p className="mt-2 font-serif text-standfirst text-ink-2">{said.sentence}</p>
      <p className="mt-5">
        <Link href={said.slug ? `/desk/${said.slug}/delivery` : '/'} className="link font-semibold">
          Go to your desk
        </Link>
      </p>
    </main>
  );
}
