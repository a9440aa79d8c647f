import type { Metadata } from 'next';
import Link from 'next/link';
import { redirect } from 'next/navigation';
import { PressOnce } from '@/ui/kit/press-once';
import { Said } from '../said';

export const metadata: Metadata = { title: 'Confirm your address', robots: { index: false } };
export const dynamic = 'force-dynamic';

export default async function Page({ searchParams }: { searchParams: Promise<Record<string, string | undefined>> }) {
  const { token, error } = await searchParams;
  if (error)
    return (
      <Said
        title="This link does not work"
        sentence="It has run out, was used already, or a part of it is missing. Sign in, and a new one is sent if it is needed."
      >
        <p className="mt-5">
          <Link href="/sign-in" className="link font-semibold">
            Sign in
          </Link>
        </p>
      </Said>
    );
  if (!token) redirect('/');
  return (
    <Said title="Confirm your address" sentence="One click, and your account is yours.">
      <PressOnce action="/api/verify" button="Confirm my address" byItself>
        <input type="hidden" name="token" value={token} />
      </PressOnce>
    </Said>
  );
}
