import type { Metadata } from 'next';
import Link from 'next/link';
import { LOOKS } from '@/core/forms/look';
import { formInWords } from '@/core/forms/sentence';
import { counted, figure, percent } from '@/core/growth/figures';
import { wordOf } from '@/core/growth/measures';
import { formsOf } from '@/server/forms/forms';
import { heldCounts } from '@/server/forms/held';
import { listsOf } from '@/server/readers/readers';
import { ActionForm, ChoiceField, TextField } from '@/ui/kit/action-form';
import { Chip, Note, Screen, Section, Sheet, Standfirst } from '@/ui/kit/page';
import { Table } from '@/ui/kit/table';
import { deskOf } from '../../../../desk';
import { makeForm } from './actions';

export const metadata: Metadata = { title: 'Forms' };

export default async function Page({ params }: { params: Promise<{ slug: string }> }) {
  const { slug } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const [forms, lists, held] = await Promise.all([
    formsOf(ctx, newsletter),
    listsOf(ctx, newsletter),
    heldCounts(ctx, newsletter),
  ]);
  const page = `${ctx.config.webOrigin}/at/${slug}`;
  const heldBack = [...held.values()].reduce((sum, n) => sum + n, 0);
  const sum = (key: 'asked' | 'confirmed') => forms.reduce((total, form) => total + form[key], 0);
  return (
    <Screen
      margin={
        <Section title="A new form">
          <Sheet className="mt-3">
            <ActionForm action={makeForm.bind(null, slug)} submit="Make a form" tone="plain">
              <TextField
                name="name"
                label="Where will it stand?"
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
          {heldBack > 0 && (
            <Note tone="look" title={`${counted(heldBack, 'sign-up was', 'sign-ups were')} held back`}>
              They looked like a machine’s and showed no work; each form’s figures show them.
            </Note>
          )}
        </Section>
      }
    >
      <Standfirst title="Forms">
        {sum('asked') === 0 ? (
          <>
            Forms on your own site bring readers. Your sign-up page is live already, at{' '}
            <a href={page} className="link break-all">
              {page.replace(/^https?:\/\//, '')}
            </a>
            .
          </>
        ) : (
          <>
            <b>{counted(sum('asked'), 'person', 'people')}</b> signed up by {counted(forms.length, 'form', 'forms')};{' '}
            <b>{percent(sum('confirmed'), sum('asked'))}</b> of them confirmed by email.
          </>
        )}
      </Standfirst>
      <Table
        label="Forms"
        columns={[
          { title: 'Form' },
          { title: wordOf('shown'), figure: true },
          { title: wordOf('signedUp'), figure: true },
          { title: wordOf('confirmed'), figure: true },
          { title: 'Of signed up', figure: true },
          { title: wordOf('reading'), figure: true },
        ]}
        rows={forms.map((form) => ({
          key: form.id,
          cells: [
            <Link key="n" href={`/desk/${slug}/forms/${form.id}`} className="group block">
              <b className="group-hover:underline">{form.name}</b>{' '}
              {form.archivedAt ? <Chip tone="know">put away</Chip> : form.draft ? <Chip tone="look">not published</Chip> : null}
              <span className="block max-w-[34rem] text-small text-ink-2">
                {
                  formInWords(form.definition, {
                    lists: lists.filter((list) => form.listIds.includes(list.id)),
                    sender: newsletter.name,
                  })[0]
                }
              </span>
            </Link>,
            figure(form.loaded),
            figure(form.asked),
            figure(form.confirmed),
            percent(form.confirmed, form.asked),
            figure(form.reading),
          ],
        }))}
      />
    </Screen>
  );
}
