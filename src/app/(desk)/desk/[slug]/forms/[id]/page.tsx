import type { Metadata } from 'next';
import { formCodes } from '@/core/forms/codes';
import { formOf } from '@/server/forms/forms';
import { listsOf } from '@/server/readers/readers';
import { FormEditor } from '@/ui/forms/form-editor';
import { deskOf, orNotFound } from '../../../../../desk';
import { keepForm } from '../actions';

export const metadata: Metadata = { title: 'Form' };

export default async function Page({ params }: { params: Promise<{ slug: string; id: string }> }) {
  const { slug, id } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const form = await orNotFound(formOf(ctx, newsletter, id));
  const lists = await listsOf(ctx, newsletter);
  return (
    <FormEditor
      form={{ name: form.name, definition: form.definition, listIds: form.listIds, updatedAt: form.updatedAt }}
      counts={{ loaded: form.loaded, sentIn: form.sentIn, confirmed: form.confirmed }}
      lists={lists.map(({ id, name, reading }) => ({ id, name, reading }))}
      codes={formCodes({ publicId: form.publicId, heading: form.definition.heading }, ctx.config.linkOrigin)}
      colour={newsletter.colour}
      zone={newsletter.time_zone}
      back={`/desk/${slug}/forms`}
      keep={keepForm.bind(null, slug, id)}
    />
  );
}
