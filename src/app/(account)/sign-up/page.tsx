import type { Metadata } from 'next';
import { mayOpenAccount, PASSWORD_RULE } from '@/server/auth/auth';
import { runtime } from '@/server/runtime';
import { AccountForm } from '@/ui/accounts/account-form';

export const metadata: Metadata = { title: 'Open an account' };
export const dynamic = 'force-dynamic';

export default async function Page() {
  const open = await mayOpenAccount(await runtime(), null);
  return (
    <>
      <h1 className="font-serif text-title">Open an account</h1>
      <p className="mt-1 mb-6 font-serif text-standfirst text-ink-2">
        {open
          ? 'A name, an address and a password; nothing else is asked.'
          : 'Accounts are opened by invitation here. If you were invited, use the address that the invitation came to.'}
      </p>
      <AccountForm kind="sign-up" passwordRule={PASSWORD_RULE.sentence} />
    </>
  );
}
