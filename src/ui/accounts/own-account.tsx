'use client';

import { useRouter } from 'next/navigation';
import { toast } from 'sonner';
import type { ActionResult } from '@/core/faults';
import { ActionForm, TextField } from '../kit/action-form';
import { Button } from '../kit/button';
import { ActionDialog } from '../kit/dialog';
import { Chip, Section } from '../kit/page';
import { call } from './call';

export type OpenSession = { token: string; here: boolean; since: string; machine: string };
type Props = { name: string; email: string; passwordRule: string; sessions: OpenSession[] };

const text = (data: FormData, name: string) => String(data.get(name) ?? '').trim();
const missing = (name: string, sentence: string): ActionResult => ({
  ok: false,
  error: { code: 'invalid', sentence, fields: { [name]: sentence } },
});

/** One's own account: name, address, password, where one is signed in, and closing it. */
export function OwnAccount({ name, email, passwordRule, sessions }: Props) {
  const router = useRouter();
  const after = (result: ActionResult): ActionResult => {
    if (result.ok) router.refresh();
    return result;
  };
  return (
    <div className="max-w-xl">
      <Section title="Name">
        <ActionForm
          className="mt-3"
          submit="Save"
          done="Saved"
          tone="plain"
          action={async (data) =>
            text(data, 'name')
              ? after(await call('update-user', { name: text(data, 'name') }))
              : missing('name', 'Please type your name.')
          }
        >
          <TextField name="name" label="Your name" defaultValue={name} autoComplete="name" />
        </ActionForm>
      </Section>
      <Section title="Address">
        <ActionForm
          className="mt-3"
          submit="Change it"
          done={`A link is on its way to ${email}; then the new address is asked.`}
          tone="plain"
          action={async (data) => {
            const typed = text(data, 'email');
            if (!typed) return missing('email', 'Please type the new address.');
            if (typed.toLowerCase() === email.toLowerCase()) return missing('email', 'This is your address already.');
            return call('change-email', { newEmail: typed, callbackURL: '/account' });
          }}
        >
          <TextField
            name="email"
            type="email"
            label="New address"
            placeholder={email}
            autoComplete="email"
            hint={`It is ${email} now. Both addresses are asked by mail; until both have said yes nothing changes.`}
          />
        </ActionForm>
      </Section>
      <Section title="Password">
        <ActionForm
          className="mt-3"
          submit="Change it"
          done="Your new password is kept, and every other place was signed out."
          clears
          tone="plain"
          action={async (data) => {
            if (!text(data, 'currentPassword')) return missing('currentPassword', 'Please type the password that you have.');
            if (!text(data, 'newPassword')) return missing('newPassword', 'Please type a new password.');
            return after(
              await call('change-password', {
                currentPassword: String(data.get('currentPassword')),
                newPassword: String(data.get('newPassword')),
                revokeOtherSessions: true,
              }),
            );
          }}
        >
          <TextField name="currentPassword" type="password" label="The one you have" autoComplete="current-password" />
          <TextField name="newPassword" type="password" label="A new one" autoComplete="new-password" hint={passwordRule} />
        </ActionForm>
      </Section>
      <Section title="Signed in" aside={sessions.length}>
        <ul>
          {sessions.map((session) => (
            <li key={session.token} className="flex items-center justify-between gap-3 border-b border-rule-2 py-2">
              <span className="min-w-0">
                <span className="block truncate">{session.machine}</span>
                <span className="text-small text-ink-2">since {session.since}</span>
              </span>
              {session.here ? (
                <Chip tone="fine">here</Chip>
              ) : (
                <Button
                  onClick={async () => {
                    const result = await call('revoke-session', { token: session.token }).catch(() => null);
                    if (result?.ok) toast.success('Signed out there');
                    else toast.error('We could not be reached. Please try again.');
                    router.refresh();
                  }}
                >
                  Sign it out
                </Button>
              )}
            </li>
          ))}
        </ul>
      </Section>
      <Section title="Close this account">
        <p className="my-3 text-ink-2">
          Your name, address and sessions go at once and cannot be brought back. Newsletters that others own too stay with them.
        </p>
        <ActionDialog
          opens="Close it …"
          opensTone="plain"
          title="Close your account?"
          words={`The account of ${email} goes at once, and nobody can bring it back.`}
          submit="Close my account"
          tone="harm"
          action={async (data) => {
            if (!text(data, 'password')) return missing('password', 'Please type your password.');
            const result = await call('delete-user', { password: String(data.get('password')) });
            if (result.ok) location.assign('/sign-up');
            return result;
          }}
        >
          <TextField name="password" type="password" label="Your password" autoComplete="current-password" />
        </ActionDialog>
      </Section>
    </div>
  );
}
