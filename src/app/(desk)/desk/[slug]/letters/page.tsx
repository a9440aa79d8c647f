import type { Metadata } from 'next';
import { counted, figure } from '@/core/growth/figures';
import { lettersOf } from '@/server/sending/views';
import { ButtonLink } from '@/ui/kit/button';
import { Empty, Screen, Standfirst } from '@/ui/kit/page';
import { LetterTable } from '@/ui/sending/letter-table';
import { deskOf } from '../../../../desk';

export const metadata: Metadata = { title: 'Letters' };

export default async function Page({ params }: { params: Promise<{ slug: string }> }) {
  const { slug } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const letters = await lettersOf(ctx, newsletter);
  const sent = letters.filter((letter) => letter.state === 'sent');
  const delivered = sent.reduce((sum, letter) => sum + letter.counts.delivered, 0);
  return (
    <Screen>
      <Standfirst title="Letters">
        {letters.length === 0 ? (
          <>Every letter that leaves, and what became of it. The first one is made from your next blog post.</>
        ) : (
          <>
            <b>{counted(sent.length, 'letter', 'letters')}</b> sent, <b>{figure(delivered)}</b> copies delivered. Letters are made
            from new posts of your blog.
          </>
        )}
      </Standfirst>
      {letters.length === 0 ? (
        <Empty
          title="No letters yet"
          action={
            <ButtonLink tone="main" href={`/desk/${slug}/auto-sends`}>
              Connect your blog
            </ButtonLink>
          }
        >
          Connect your blog, and each new post becomes a letter by itself.
        </Empty>
      ) : (
        <LetterTable
          letters={letters.map((l) => ({ ...l, at: l.startedAt ?? l.dueAt }))}
          slug={slug}
          now={ctx.clock.now()}
          zone={newsletter.time_zone}
        />
      )}
    </Screen>
  );
}
