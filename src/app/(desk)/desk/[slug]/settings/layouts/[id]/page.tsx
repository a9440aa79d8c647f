import type { Metadata } from 'next';
import { layoutById } from '@/server/newsletters/layouts';
import { lettersToSee } from '@/server/sending/see-layout';
import { LayoutBuilder } from '@/ui/layouts/builder';
import { deskOf, orNotFound } from '../../../../../../desk';
import { drop, make, usual } from '../actions';

export const metadata: Metadata = { title: 'Layout' };

/** One layout, changed beside a letter that shows it at once. */
export default async function Page({ params }: { params: Promise<{ slug: string; id: string }> }) {
  const { slug, id } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const layout = await orNotFound(layoutById(ctx, newsletter, id));
  const base = `/desk/${slug}/settings/layouts`;
  return (
    <LayoutBuilder
      key={layout.id}
      base={`${base}/${id}`}
      back={base}
      name={layout.name}
      layout={layout.layout}
      since={layout.updatedAt.toISOString()}
      usual={layout.usual}
      rules={layout.rules}
      accent={newsletter.accent}
      letters={await lettersToSee(ctx, newsletter)}
      makeUsual={usual.bind(null, slug, id)}
      copy={make.bind(null, slug, id)}
      drop={drop.bind(null, slug, id)}
    />
  );
}
