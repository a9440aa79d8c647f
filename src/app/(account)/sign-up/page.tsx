import type { Metadata } from 'next';
import { PASSWORD_RULE } from '@/server/auth/auth';
import { AccountForm } from '@/ui/accounts/account-form';

export const metadata: Metadata = { title: 'Open an account' };
export const dynamic = 'force-dynamic';

export default function Page() {
  return (
    <>
      <h1 className="font-serif text-title">Open an account</h1>
      <p className="mt-1 mb-6 font-serif text-standfirst text-ink-2">A name, an address and a password; nothing else is asked.</p>
      <AccountForm kind="sign-up" passwordRule={PASSWORD_RULE.sentence} />
    </>
  );
}
