import type { Metadata } from 'next';
import { PASSWORD_RULE } from '@/server/auth/auth';
import { AccountForm } from '@/ui/accounts/account-form';

export const metadata: Metadata = { title: 'Choose a new password' };
export const dynamic = 'force-dynamic';

export default async function Page({ searchParams }: { searchParams: Promise<Record<string, string | undefined>> }) {
  const query = await searchParams;
  return (
    <>
      <h1 className="font-serif text-title">Choose a new password</h1>
      <p className="mt-1 mb-6 font-serif text-standfirst text-ink-2">Signing in elsewhere will ask for the new one.</p>
      <AccountForm kind="reset" passwordRule={PASSWORD_RULE.sentence} token={query.token ?? ''} />
    </>
  );
}
