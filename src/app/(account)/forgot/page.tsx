import type { Metadata } from 'next';
import { PASSWORD_RULE } from '@/server/auth/auth';
import { AccountForm } from '@/ui/accounts/account-form';

export const metadata: Metadata = { title: 'Choose a new password' };
export const dynamic = 'force-dynamic';

export default function Page() {
  return (
    <>
      <h1 className="font-serif text-title">Choose a new password</h1>
      <p className="mt-1 mb-6 font-serif text-standfirst text-ink-2">
        Type the address of your account, and a link comes by email.
      </p>
      <AccountForm kind="forgot" passwordRule={PASSWORD_RULE.sentence} />
    </>
  );
}
