import type { Metadata } from 'next';
import { POSTAL_HINT } from '@/core/newsletters/postal';
import { ActionForm, LongField, TextField } from '@/ui/kit/action-form';
import { ZoneField } from '@/ui/newsletters/zone-field';
import { personHere } from '../../desk';
import { makeNewsletter } from './actions';

export const metadata: Metadata = { title: 'A new newsletter' };

export default async function Page() {
  const person = await personHere();
  return (
    <main className="mx-auto max-w-xl px-5 py-[7vh]">
      <h1 className="font-serif text-title">A new newsletter</h1>
      <p className="mt-1 mb-7 font-serif text-standfirst text-ink-2">
        Welcome, {person.name}. Four answers, and its sign-up page is live. All of them can be changed later.
      </p>
      <ActionForm action={makeNewsletter} submit="Make the newsletter">
        <TextField name="name" label="Name" maxLength={80} hint="What readers see first. For example: Lanternfish Letters." />
        <TextField
          name="description"
          label="One line about it"
          maxLength={200}
          hint="Stands on the sign-up page. May be left empty."
        />
        <LongField name="postalAddress" label="Postal address" rows={3} hint={POSTAL_HINT} />
        <ZoneField />
      </ActionForm>
    </main>
  );
}
