import type { Metadata } from 'next';
import { redirect } from 'next/navigation';
import { fullTime } from '@/core/growth/times';
import { FIRST_NAME } from '@/core/readers/condition';
import { layoutsOf } from '@/server/newsletters/layouts';
import { sendersOf } from '@/server/senders/senders';
import { aroundWriting, draftOf, isWritable } from '@/server/sending/drafts';
import { pageOf } from '@/server/sending/pages';
import { AsPage } from '@/ui/writing/as-page';
import { Writer } from '@/ui/writing/writer';
import { deskOf, orNotFound } from '../../../../../../desk';
import { keepPage, keepText, proof } from '../../actions';

export const metadata: Metadata = { title: 'Write' };

type Props = { params: Promise<{ slug: string; id: string }>; searchParams: Promise<{ see?: string | string[] }> };

export default async function Page({ params, searchParams }: Props) {
  const { slug, id } = await params;
  const { see } = await searchParams;
  const { ctx, newsletter, person } = await deskOf(slug);
  const draft = await orNotFound(draftOf(ctx, newsletter, id));
  const base = `/desk/${slug}/letters/${id}`;
  if (!isWritable(draft.state)) redirect(base);
  const [senders, layouts, around, page] = await Promise.all([
    sendersOf(ctx, newsletter),
    layoutsOf(ctx, newsletter),
    aroundWriting(ctx, newsletter),
    pageOf(ctx, newsletter, id),
  ]);
  const { title, subtitle, subject, previewLine, senderId, layoutId, document } = draft;
  return (
    <Writer
      id={id}
      base={base}
      revision={draft.revision}
      savedAt={draft.savedAt.toISOString()}
      written={{ title, subtitle, subject, previewLine, senderId, layoutId, document }}
      senders={senders.map((one) => ({ id: one.id, label: `${one.name} <${one.address}>` }))}
      view={see === 'proof' ? 'preview' : 'write'}
      layouts={layouts.filter((one) => !one.usual).map((one) => ({ id: one.id, label: one.name }))}
      around={{ ...around, fields: [{ id: FIRST_NAME, label: 'First name' }, ...around.fields] }}
      asPage={
        <AsPage
          page={{ ...page, since: page.publishedAt && fullTime(page.publishedAt, newsletter.time_zone) }}
          action={keepPage.bind(null, slug, id)}
        />
      }
      zone={newsletter.time_zone}
      me={person.email}
      proof={proof.bind(null, slug, id)}
      saveText={keepText.bind(null, slug, id)}
    />
  );
}
