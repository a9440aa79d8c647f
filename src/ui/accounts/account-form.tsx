'use client';

import Link from 'next/link';
import { useRouter } from 'next/navigation';
import { type ReactNode, useState, useTransition } from 'react';
import type { ActionResult } from '@/core/faults';
import { ActionForm, TextField } from '../kit/action-form';
import { Button } from '../kit/button';
import { call } from './call';

const text = (data: FormData, name: string) => String(data.get(name) ?? '');
type Kind = 'sign-in' | 'sign-up' | 'forgot' | 'reset';

/** The four forms of the account pages. */
export function AccountForm({ kind, passwordRule, token = '' }: { kind: Kind; passwordRule: string; token?: string }) {
  // What was sent, and how it is sent again: by the same call, so that every address is answered alike.
  const [sent, setSent] = useState<{ to: string; again: () => Promise<ActionResult> } | null>(null);
  const [typed, setTyped] = useState('');
  const router = useRouter();
  const run = async (data: FormData): Promise<ActionResult> => {
    const email = text(data, 'email').trim();
    const password = text(data, 'password');
    const missing: Record<string, string> = {};
    if (kind !== 'reset' && !email) missing.email = 'Please type your email address.';
    if (kind !== 'forgot' && !password) missing.password = 'Please type a password.';
    if (kind === 'sign-up' && !text(data, 'name').trim()) missing.name = 'Please type your name.';
    const first = Object.values(missing)[0];
    if (first) return { ok: false, error: { code: 'invalid', sentence: first, fields: missing } };
    if (kind === 'sign-in') {
      const result = await call('sign-in/email', { email, password, callbackURL: '/' });
      if (result.ok) router.push('/');
      return result;
    }
    if (kind === 'sign-up') {
      setTyped(text(data, 'name').trim());
      const open = () => call('sign-up/email', { name: text(data, 'name').trim(), email, password, callbackURL: '/' });
      const result = await open();
      if (result.ok) setSent({ to: email, again: open });
      return result;
    }
    if (kind === 'forgot') {
      const ask = () => call('request-password-reset', { email, redirectTo: '/reset' });
      const result = await ask();
      if (result.ok) setSent({ to: email, again: ask });
      return result;
    }
    const result = await call('reset-password', { newPassword: password, token });
    if (result.ok) router.push('/sign-in?changed=1');
    return result;
  };

  if (sent) {
    return (
      <div role="status">
        <h1 className="font-serif text-title">Look in your inbox</h1>
        <p className="mt-2 font-serif text-standfirst text-ink-2">
          {kind === 'sign-up' ? (
            <>
              We have sent a mail to <b className="text-ink">{sent.to}</b>. Click the link in it, and your account is open.
            </>
          ) : (
            <>
              If there is an account for <b className="text-ink">{sent.to}</b>, a link to choose a new password is on its way.
            </>
          )}
        </p>
        <SentAgain what={kind === 'sign-up' ? 'the mail' : 'the link'} send={sent.again} another={() => setSent(null)}>
          {kind === 'sign-up' && (
            <>
              If that address has an account already, the mail says so. <Away href="/sign-in">Sign in</Away>
            </>
          )}
        </SentAgain>
      </div>
    );
  }
  const email = <TextField name="email" type="email" label="Email" autoComplete="email" />;
  const fresh = kind === 'sign-up' || kind === 'reset';
  const password = (
    <TextField
      name="password"
      type="password"
      label={kind === 'reset' ? 'New password' : 'Password'}
      autoComplete={fresh ? 'new-password' : 'current-password'}
      hint={fresh ? passwordRule : undefined}
    />
  );
  const FORMS: Record<Kind, { submit: string; fields: ReactNode; aside: ReactNode }> = {
    'sign-in': {
      submit: 'Sign in',
      fields: [<div key="e">{email}</div>, <div key="p">{password}</div>],
      aside: <Away href="/forgot">Forgot the password?</Away>,
    },
    'sign-up': {
      submit: 'Open an account',
      fields: (
        <>
          <TextField name="name" label="Your name" autoComplete="name" defaultValue={typed} />
          {email}
          {password}
        </>
      ),
      aside: <Away href="/sign-in">I have one already</Away>,
    },
    forgot: { submit: 'Send me a link', fields: email, aside: <Away href="/sign-in">Back to signing in</Away> },
    reset: { submit: 'Keep this password', fields: password, aside: null },
  };
  const form = FORMS[kind];
  return (
    <ActionForm action={run} submit={form.submit} aside={form.aside}>
      {form.fields}
    </ActionForm>
  );
}

type SentAgainProps = { what: string; send: () => Promise<ActionResult>; another: () => void; children?: ReactNode };

/** For whoever waits for a mail: what to do while none comes. */
function SentAgain({ what, send, another, children }: SentAgainProps) {
  const [said, setSaid] = useState('');
  const [busy, begin] = useTransition();
  return (
    <>
      <p className="mt-4 text-ink-2">Nothing there after a minute? Look among the unwanted mail too. {children}</p>
      <div className="mt-4 flex flex-wrap items-center gap-3">
        <Button
          disabled={busy}
          onClick={() =>
            begin(async () => {
              const result = await send().catch(() => null);
              setSaid(
                result === null
                  ? 'We could not be reached. Please try again.'
                  : result.ok
                    ? `We send ${what} again, up to six times an hour.`
                    : result.error.sentence,
              );
            })
          }
        >
          Send it again
        </Button>
        <button type="button" className="link font-medium" onClick={another}>
          Another address
        </button>
      </div>
      <p role="status" className="mt-2 min-h-5 text-small text-ink-2">
        {said}
      </p>
    </>
  );
}

const Away = ({ href, children }: { href: string; children: ReactNode }) => (
  <Link href={href} className="link font-medium">
    {children}
  </Link>
);
