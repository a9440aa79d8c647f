import type { Metadata } from 'next';
import Link from 'next/link';
import { PASSWORD_RULE } from '@/server/auth/auth';
import { AccountForm } from '@/ui/accounts/account-form';

export const metadata: Metadata = { title: 'Sign in' };
export const dynamic = 'force-dynamic';

export default async function Page({ searchParams }: { searchParams: Promise<Record<string, string | undefined>> }) {
  const query = await searchParams;
  return (
    <>
      <h1 className="font-serif text-title">Sign in</h1>
      <p className="mt-1 mb-6 font-serif text-standfirst text-ink-2">Your desk is as you left it.</p>
      {query.changed && (
        <p role="status" className="mb-5 border-l-2 border-l-verdigris pl-3">
          Your new password is kept. Sign in with it.
        </p>
      )}
      {query.error && (
        <p role="alert" className="mb-5 border-l-2 border-l-stamp pl-3">
          This link has run out or was used already. Sign in, and a new one is sent if it is still needed.
        </p>
      )}
      <AccountForm kind="sign-in" passwordRule={PASSWORD_RULE.sentence} />
      <p className="mt-8 border-t pt-4 text-ink-2">
        New here?{' '}
        <Link href="/sign-up" className="link font-medium">
          Open an account
        </Link>
      </p>
    </>
  );
}
