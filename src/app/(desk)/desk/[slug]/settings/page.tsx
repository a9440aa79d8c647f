import type { Metadata } from 'next';
import Link from 'next/link';
import { POSTAL_HINT } from '@/core/newsletters/postal';
import { listsOf } from '@/server/readers/readers';
import { ActionForm, LongField, TextField } from '@/ui/kit/action-form';
import { Screen, Section, Standfirst } from '@/ui/kit/page';
import { ZoneField } from '@/ui/newsletters/zone-field';
import { deskOf } from '../../../../desk';
import { keepSettings } from './actions';

export const metadata: Metadata = { title: 'Settings' };

export default async function Page({ params }: { params: Promise<{ slug: string }> }) {
  const { slug } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const lists = await listsOf(ctx, newsletter);
  return (
    <Screen
      margin={
        <>
          <Section title="At the foot of every letter">
            <div className="mt-3 rounded-lg border bg-sheet p-4 text-[13px] text-ink-2">
              {newsletter.reason_line}
              <br />
              {newsletter.postal_address.replace(/\r?\n/g, ', ')}
              <br />
              <span className="underline">Leave this list</span>
            </div>
          </Section>
          <Section title="Lists">
            {lists.map((list) => (
              <p key={list.id} className="border-b border-rule-2 py-2">
                <b>{list.name}</b>
                <span className="block text-small text-ink-2">
                  readers see “{list.publicName}”; {list.doubleOptIn ? 'confirmed by email' : 'not confirmed'}
                </span>
              </p>
            ))}
          </Section>
        </>
      }
    >
      <Standfirst title="Settings">
        What readers see of {newsletter.name}. Its sign-up page is at{' '}
        <Link href={`/at/${slug}`} className="link">
          /at/{slug}
        </Link>
        .
      </Standfirst>
      <ActionForm action={keepSettings.bind(null, slug)} submit="Save" done="Saved" className="max-w-xl">
        <TextField name="name" label="Name" defaultValue={newsletter.name} maxLength={80} />
        <TextField name="description" label="One line about it" defaultValue={newsletter.description} maxLength={200} />
        <LongField
          name="reasonLine"
          label="Reason line"
          defaultValue={newsletter.reason_line}
          maxLength={300}
          hint="Why this person gets the letter. Name the newsletter and where they signed up: it is read by people who forgot."
        />
        <LongField
          name="postalAddress"
          label="Postal address"
          defaultValue={newsletter.postal_address}
          maxLength={300}
          hint={POSTAL_HINT}
        />
        <ZoneField value={newsletter.time_zone} />
        <TextField
          name="colour"
          label="Colour of forms and letters"
          defaultValue={newsletter.colour}
          mono
          hint="A dark one, written like #17645c."
        />
      </ActionForm>
    </Screen>
  );
}
