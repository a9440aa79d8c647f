import type { Metadata } from 'next';
import Link from 'next/link';
import { LOOKS } from '@/core/forms/look';
import { counted, figure, percent } from '@/core/growth/figures';
import { formsOf } from '@/server/forms/forms';
import { ActionForm, ChoiceField, TextField } from '@/ui/kit/action-form';
import { Chip, Note, Screen, Section, Sheet, Standfirst } from '@/ui/kit/page';
import { Table } from '@/ui/kit/table';
import { deskOf } from '../../../../desk';
import { makeForm } from './actions';

export const metadata: Metadata = { title: 'Forms' };

export default async function Page({ params }: { params: Promise<{ slug: string }> }) {
  const { slug } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const forms = await formsOf(ctx, newsletter);
  const sum = (key: 'loaded' | 'sentIn' | 'confirmed') => forms.reduce((total, form) => total + form[key], 0);
  return (
    <Screen
      margin={
        <Section title="A new form">
          <Sheet className="mt-3">
            <ActionForm action={makeForm.bind(null, slug)} submit="Make a form" tone="plain">
              <TextField
                name="name"
                label="Where will it stand?"
                maxLength={80}
                placeholder="After every article"
                hint="Only you see this name."
              />
              <ChoiceField
                name="look"
                label="Begin with"
                choices={[
                  { value: '', label: 'the newsletter’s colour' },
                  ...Object.keys(LOOKS).map((value) => ({ value, label: value })),
                ]}
              />
            </ActionForm>
          </Sheet>
          <Note tone="know" title="Ask for little">
            A form starts with the email address alone. Each further question costs you readers.
          </Note>
        </Section>
      }
    >
      <Standfirst title="Forms">
        {sum('sentIn') === 0 ? (
          <>
            Forms on your own site bring readers. Your sign-up page is live already, at{' '}
            <Link href={`/at/${slug}`} className="link">
              /at/{slug}
            </Link>
            .
          </>
        ) : (
          <>
            <b>{counted(sum('sentIn'), 'sign-up', 'sign-ups')}</b> came through {counted(forms.length, 'form', 'forms')};{' '}
            <b>{percent(sum('confirmed'), sum('sentIn'))}</b> of them confirmed by email.
          </>
        )}
      </Standfirst>
      <Table
        label="Forms"
        columns={[
          { title: 'Form' },
          { title: 'Asks', hideNarrow: true },
          { title: 'Shown', figure: true },
          { title: 'Sent in', figure: true },
          { title: 'Confirmed', figure: true },
          { title: 'Of sent in', figure: true },
        ]}
        rows={forms.map((form) => ({
          key: form.id,
          cells: [
            <Link key="n" href={`/desk/${slug}/forms/${form.id}`} className="group block">
              <b className="group-hover:underline">{form.name}</b>{' '}
              {form.archivedAt ? <Chip tone="know">put away</Chip> : form.draft ? <Chip tone="look">not published</Chip> : null}
              <span className="block text-small text-ink-2">{form.definition.heading}</span>
            </Link>,
            form.definition.fields.map((field) => field.label).join(', '),
            figure(form.loaded),
            figure(form.sentIn),
            figure(form.confirmed),
            percent(form.confirmed, form.sentIn),
          ],
        }))}
      />
    </Screen>
  );
}
