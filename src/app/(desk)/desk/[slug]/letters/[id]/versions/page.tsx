import type { Metadata } from 'next';
import Link from 'next/link';
import { spokenTime } from '@/core/growth/times';
import { differenceOf } from '@/core/writing/differing';
import { draftOf, isWritable, versionOf, versionsOfLetter } from '@/server/sending/drafts';
import { ActionButton } from '@/ui/kit/action-form';
import { Empty, Screen, Section, Standfirst } from '@/ui/kit/page';
import { deskOf, orNotFound } from '../../../../../../desk';
import { restore } from '../../actions';

export const metadata: Metadata = { title: 'Versions' };

type Props = { params: Promise<{ slug: string; id: string }>; searchParams: Promise<{ of?: string | string[] }> };

export default async function Page({ params, searchParams }: Props) {
  const { slug, id } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const [draft, versions] = await Promise.all([
    orNotFound(draftOf(ctx, newsletter, id)),
    orNotFound(versionsOfLetter(ctx, newsletter, id)),
  ]);
  const asked = Number((await searchParams).of);
  const chosen = versions.find((one) => one.revision === asked) ?? versions[0];
  const version = chosen && (await orNotFound(versionOf(ctx, newsletter, id, chosen.revision)));
  const base = `/desk/${slug}/letters/${id}`;
  const now = ctx.clock.now();
  return (
    <Screen
      margin={
        versions.length > 0 && (
          <Section title="Kept">
            {versions.map((one) => (
              <Link
                key={one.revision}
                href={`${base}/versions?of=${one.revision}`}
                aria-current={one === chosen ? 'true' : undefined}
                className="block border-b border-rule-2 px-2 py-1.5 text-[13.5px] hover:bg-verdigris-tint aria-[current]:bg-verdigris-tint"
              >
                {spokenTime(one.at, now, newsletter.time_zone)}
                <span className="block text-small text-ink-2">{one.by}</span>
              </Link>
            ))}
          </Section>
        )
      }
    >
      <Standfirst
        title="Versions"
        trail={[
          { label: 'Letters', href: `/desk/${slug}/letters` },
          { label: draft.title || 'Without a title', href: `${base}/write` },
        ]}
        actions={
          chosen &&
          isWritable(draft.state) && (
            <ActionButton tone="main" action={restore.bind(null, slug, id, chosen.revision)}>
              Bring this one back
            </ActionButton>
          )
        }
      >
        {chosen ? (
          <>
            How it stood {spokenTime(chosen.at, now, newsletter.time_zone)}, and what has changed since. Bringing it back keeps
            how it stands now among these.
          </>
        ) : (
          <>How a letter stood is kept every ten minutes while it is written.</>
        )}
      </Standfirst>
      {version ? (
        <section
          aria-label="What has changed"
          className="max-w-[720px] rounded-lg border bg-sheet px-6 py-6 font-serif text-[18px] leading-7 whitespace-pre-wrap"
        >
          {differenceOf(version.document, draft.document).map((piece, n) => {
            if (piece.kind === 'same') return <span key={n}>{piece.text}</span>;
            return piece.kind === 'new' ? (
              <ins key={n} className="bg-verdigris-tint text-verdigris">
                {piece.text}
              </ins>
            ) : (
              <del key={n} className="bg-stamp-tint text-stamp">
                {piece.text}
              </del>
            );
          })}
        </section>
      ) : (
        <Empty title="None yet">Write on it, and look again.</Empty>
      )}
    </Screen>
  );
}
