import type { Metadata } from 'next';
import { redirect } from 'next/navigation';
import { asFault } from '@/core/faults';
import { counted } from '@/core/growth/figures';
import { spokenTime } from '@/core/growth/times';
import { lookForFeeds } from '@/server/autosend/discover';
import { listsOf } from '@/server/readers/readers';
import { sendersOf } from '@/server/senders/senders';
import { ActionForm } from '@/ui/kit/action-form';
import { ButtonLink } from '@/ui/kit/button';
import { Note, Screen, Section, Sheet, Standfirst } from '@/ui/kit/page';
import { deskOf } from '../../../../../desk';
import { connectBlog } from '../actions';
import { Ways } from '../ways';

export const metadata: Metadata = { title: 'Connect a blog' };
type Props = { params: Promise<{ slug: string }>; searchParams: Promise<{ at?: string }> };

export default async function Page({ params, searchParams }: Props) {
  const [{ slug }, { at }] = await Promise.all([params, searchParams]);
  const { ctx, newsletter } = await deskOf(slug);
  const base = `/desk/${slug}/auto-sends`;
  if (!at) redirect(base);
  const [feeds, senders, lists] = await Promise.all([
    lookForFeeds(ctx, newsletter, at).catch((error: unknown) => asFault(error)),
    sendersOf(ctx, newsletter),
    listsOf(ctx, newsletter),
  ]);
  const trail = [{ label: 'Auto-sends', href: base }];
  if (!Array.isArray(feeds))
    return (
      <Screen>
        <Standfirst title="Connect a blog" trail={trail}>
          {feeds.sentence}
        </Standfirst>
        <ButtonLink href={base}>Try another address</ButtonLink>
      </Screen>
    );
  return (
    <Screen
      margin={
        <Note tone="know" title="What stands in it now is never mailed">
          Only posts that appear after you switch it on become letters, each once.
        </Note>
      }
    >
      <Standfirst title="Connect a blog" trail={trail}>
        {feeds.length === 1 ? (
          <>
            We read its feed: <b>{counted(feeds[0]!.count, 'post stands', 'posts stand')}</b> in it.
          </>
        ) : (
          <>
            It has <b>{counted(feeds.length, 'feed', 'feeds')}</b>. Choose the one whose posts become letters.
          </>
        )}
      </Standfirst>
      {feeds.map((feed) => (
        <Section key={feed.url} title={feed.title} aside={<span className="break-all">{feed.url}</span>}>
          <div className="grid items-start gap-x-8 gap-y-4 pt-2 lg:grid-cols-[1fr_18rem]">
            <div>
              {feed.posts.length === 0 ? (
                <p className="py-2 text-ink-2">Nothing stands in it yet.</p>
              ) : (
                <ul aria-label={`Never mailed, of ${feed.title}`}>
                  {feed.posts.map((post, n) => (
                    // A feed may hold the same title twice.
                    <li key={n} className="flex justify-between gap-4 border-b border-rule-2 py-2 text-[13.5px]">
                      <span className="min-w-0 break-words">{post.title}</span>
                      <span className="whitespace-nowrap text-ink-2">
                        {post.at ? spokenTime(post.at, ctx.clock.now(), newsletter.time_zone) : 'without a date'}
                      </span>
                    </li>
                  ))}
                </ul>
              )}
              {feed.count > feed.posts.length && (
                <p className="pt-2 text-small text-ink-2">
                  And {counted(feed.count - feed.posts.length, 'older one', 'older ones')}. None of them is mailed.
                </p>
              )}
            </div>
            <Sheet>
              {senders.length ? (
                <ActionForm
                  action={connectBlog.bind(null, slug)}
                  submit="Connect it"
                  tone={feeds.length === 1 ? 'main' : 'plain'}
                >
                  <input type="hidden" name="feedUrl" value={feed.url} />
                  <Ways senders={senders} lists={lists} senderId={newsletter.default_sender_id} />
                </ActionForm>
              ) : (
                <ButtonLink tone="main" href={`/desk/${slug}/delivery`}>
                  Add a sender first
                </ButtonLink>
              )}
            </Sheet>
          </div>
        </Section>
      ))}
    </Screen>
  );
}
