import type { Metadata } from 'next';
import { redirect } from 'next/navigation';
import { lineForAll } from '@/core/writing/line';
import { choicesOf } from '@/server/readers/choices';
import { facetsOf } from '@/server/readers/table';
import { audiencesOf, lastAudience, peopleIn } from '@/server/sending/address';
import { draftOf, isWritable } from '@/server/sending/drafts';
import { letterOf } from '@/server/sending/views';
import { ButtonLink } from '@/ui/kit/button';
import { Addresser } from '@/ui/sending/addresser';
import { StageBar } from '@/ui/sending/stages';
import { deskOf, orNotFound } from '../../../../../../desk';
import { address, dropKept, findPeople, keepAudienceAs } from '../../actions';

export const metadata: Metadata = { title: 'Address' };

export default async function Page({ params }: { params: Promise<{ slug: string; id: string }> }) {
  const { slug, id } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const letter = await orNotFound(letterOf(ctx, newsletter, id));
  const base = `/desk/${slug}/letters/${id}`;
  if (!isWritable(letter.state) || (await draftOf(ctx, newsletter, id)).goes === 'page') redirect(base);
  const [facets, saved, last] = await Promise.all([
    facetsOf(ctx, newsletter),
    audiencesOf(ctx, newsletter),
    lastAudience(ctx, newsletter),
  ]);
  const [choices, people] = await Promise.all([
    choicesOf(ctx, newsletter, facets),
    peopleIn(ctx, newsletter, [letter.audience, ...saved.map((one) => one.audience), ...(last ? [last.audience] : [])]),
  ]);
  return (
    <>
      <StageBar base={base} here="Address">
        <ButtonLink tone="main" href={`${base}/send`}>
          Send it
        </ButtonLink>
      </StageBar>
      <Addresser
        title={lineForAll(letter.subject) || 'Without a subject'}
        base={base}
        onRunway={letter.state !== 'draft'}
        audience={letter.audience}
        againOf={letter.againOf}
        choices={choices}
        people={people}
        saved={saved}
        last={last}
        keep={address.bind(null, slug, id)}
        find={findPeople.bind(null, slug)}
        save={keepAudienceAs.bind(null, slug)}
        drop={dropKept.bind(null, slug)}
      />
    </>
  );
}
