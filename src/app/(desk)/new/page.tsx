import type { Metadata } from 'next';
import Link from 'next/link';
import { POSTAL_HINT } from '@/core/newsletters/postal';
import { ActionForm, LongField, TextField } from '@/ui/kit/action-form';
import { LanguageField, ZoneField } from '@/ui/newsletters/zone-field';
import { personHere } from '../../desk';
import { makeNewsletter } from './actions';

export const metadata: Metadata = { title: 'A new newsletter' };

export default async function Page() {
  const person = await personHere();
  return (
    <main className="mx-auto max-w-xl px-5 py-[7vh]">
      <h1 className="font-serif text-title">A new newsletter</h1>
      <p className="mt-1 mb-7 font-serif text-standfirst text-ink-2">
        Welcome, {person.name}. A few answers, each asked once, and its sign-up page is live. All of them can be changed later.
      </p>
      <ActionForm action={makeNewsletter} submit="Make the newsletter">
        <TextField name="name" label="Name" hint="What readers see first. For example: Lanternfish Letters." />
        <TextField
          name="site"
          label="Your site"
          type="text"
          inputMode="url"
          placeholder="saltmarsh.example"
          hint="We take its colour and look for its feed. May be left empty."
        />
        <div className="grid gap-4 sm:grid-cols-2">
          <TextField
            name="senderName"
            label="Letters come from"
            defaultValue={person.name}
            hint="The name that readers see first."
          />
          <TextField
            name="senderAddress"
            type="email"
            label="Their address"
            defaultValue={person.email}
            hint="Best at your own domain, which can be proven."
          />
        </div>
        <LongField name="postalAddress" label="Postal address" rows={3} hint={POSTAL_HINT} />
        <ZoneField />
        <LanguageField />
      </ActionForm>
      <p className="mt-6 text-ink-2">
        Or{' '}
        <Link className="link" href="/new/back">
          bring one back
        </Link>{' '}
        out of the file of a whole newsletter.
      </p>
    </main>
  );
}
