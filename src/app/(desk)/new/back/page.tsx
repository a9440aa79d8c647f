import type { Metadata } from 'next';
import Link from 'next/link';
import { SendWhole } from '@/ui/readers/bring-file';
import { personHere } from '../../../desk';

export const metadata: Metadata = { title: 'Bring a newsletter back' };

export default async function Page() {
  await personHere();
  return (
    <main className="mx-auto max-w-xl px-5 py-[7vh]">
      <h1 className="font-serif text-title">Bring a newsletter back</h1>
      <p className="mt-1 mb-7 font-serif text-standfirst text-ink-2">
        Out of the file of a whole newsletter, taken out here or on another installation. You see what is in it before anything is
        brought.
      </p>
      <SendWhole to="/new/back/file" base="/new/back" />
      <p className="mt-6 text-ink-2">
        Or{' '}
        <Link className="link" href="/new">
          begin a new one
        </Link>
        .
      </p>
    </main>
  );
}
