import type { Metadata } from 'next';
import { notFound } from 'next/navigation';
import { cache } from 'react';
import { formCss } from '@/core/forms/look';
import { shapeOf } from '@/core/forms/placement';
import { formHtml } from '@/core/forms/render';
import { countingWords } from '@/core/readers/page-words';
import { hostedForm } from '@/server/forms/forms';
import { stamp } from '@/server/forms/stamp';
import { publicNewsletter } from '@/server/newsletters/newsletters';
import { readersShown } from '@/server/readers/shown';
import { runtime } from '@/server/runtime';

export const dynamic = 'force-dynamic';
type Props = { params: Promise<{ slug: string }> };

const load = cache(async (slug: string) => {
  const ctx = await runtime();
  const newsletter = await publicNewsletter(ctx, slug);
  const form = newsletter && (await hostedForm(ctx, newsletter));
  if (!newsletter || !form) notFound();
  return { ctx, newsletter, form };
});

export async function generateMetadata({ params }: Props): Promise<Metadata> {
  const { newsletter } = await load((await params).slug);
  return { title: { absolute: newsletter.name }, description: newsletter.description };
}

/** A newsletter's own sign-up page, at its public address. It needs no script. */
export default async function Page({ params }: Props) {
  const { ctx, newsletter, form } = await load((await params).slug);
  const page = `${ctx.config.webOrigin}/at/${newsletter.slug}`;
  const html = formHtml({
    form: form.definition,
    action: `${ctx.config.linkOrigin}/e/form/${form.publicId}`,
    page,
    lists: form.lists,
    readers: await readersShown(ctx, newsletter.id, form.definition.countFrom),
    stamp: stamp(ctx),
  });
  return (
    <main className="mx-auto max-w-2xl px-5 py-[12vh]">
      <h1 className="border-b-[3px] border-double border-b-ink pb-4 font-serif text-[38px] leading-tight break-words">
        {newsletter.name}
      </h1>
      {newsletter.description && <p className="mt-4 font-serif text-[21px] leading-8 text-ink-2">{newsletter.description}</p>}
      <style>{formCss(form.definition.look, shapeOf(form.definition.placement.kind))}</style>
      <div className="mt-8" dangerouslySetInnerHTML={{ __html: html }} />
      <p className="mt-8 text-small text-ink-2">{newsletter.postal_address.replace(/\r?\n/g, ', ')}</p>
      <p className="mt-1 text-small text-ink-2">{countingWords(newsletter)}</p>
    </main>
  );
}
