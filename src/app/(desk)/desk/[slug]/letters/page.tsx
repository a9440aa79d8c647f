import type { Metadata } from 'next';
import Link from 'next/link';
import { counted, figure } from '@/core/growth/figures';
import { may } from '@/core/newsletters/roles';
import { SHELF_NAMES, SHELVES, type Shelf } from '@/core/sending/next-act';
import { lettersOf, sentOf, shelvesOf } from '@/server/sending/views';
import { ActionButton } from '@/ui/kit/action-form';
import { ButtonLink } from '@/ui/kit/button';
import { ActionDialog } from '@/ui/kit/dialog';
import { Empty, Screen, Standfirst } from '@/ui/kit/page';
import { SubNav } from '@/ui/kit/sub-nav';
import { LetterTable } from '@/ui/sending/letter-table';
import { deskOf } from '../../../../desk';
import { begin, beginFromFile } from './actions';

export const metadata: Metadata = { title: 'Letters' };
type Props = { params: Promise<{ slug: string }>; searchParams: Promise<{ show?: string; before?: string }> };
const UUID = /^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/;

const NOTHING: Record<Shelf, string> = {
  all: 'Nothing further back.',
  drafts: 'Nothing is being written.',
  runway: 'No letter has a time yet.',
  leaving: 'No letter is on its way at this moment.',
  sent: 'No letter has left yet.',
  away: 'Nothing is put away.',
};

export default async function Page({ params, searchParams }: Props) {
  const [{ slug }, { show, before }] = await Promise.all([params, searchParams]);
  const { ctx, newsletter } = await deskOf(slug);
  const shelf = SHELVES.find((one) => one === show) ?? 'all';
  const [{ letters, more }, shelves, sent] = await Promise.all([
    lettersOf(ctx, newsletter, { shelf, before: before && UUID.test(before) ? before : null }),
    shelvesOf(ctx, newsletter),
    sentOf(ctx, newsletter),
  ]);
  const base = `/desk/${slug}/letters`;
  const none = shelves.all === 0 && shelves.away === 0;
  return (
    <Screen>
      <Standfirst
        title="Letters"
        actions={
          may(newsletter.role, 'edit') && (
            <>
              <ActionDialog
                opens="From a file"
                title="A letter out of a file"
                words="A file of Markdown (.md). What it says of itself at its head (title, subtitle, topics) is taken too."
                submit="Begin it"
                action={beginFromFile.bind(null, slug)}
              >
                <label className="block text-small font-semibold text-ink-2">
                  File
                  <input
                    name="file"
                    type="file"
                    accept=".md,.markdown,.txt,text/markdown"
                    className="mt-1 block w-full font-normal"
                  />
                </label>
              </ActionDialog>
              {sent.letters > 0 && <ButtonLink href={`/desk/${slug}/letters/compare`}>Compare</ButtonLink>}
              <ActionButton tone="main" action={begin.bind(null, slug)}>
                Write a letter
              </ActionButton>
            </>
          )
        }
      >
        {none ? (
          <>Every letter that leaves, and what became of it. Write one, or have new posts of your blog become letters.</>
        ) : (
          <>
            <b>{counted(sent.letters, 'letter', 'letters')}</b> sent, <b>{figure(sent.delivered)}</b> copies delivered
            {shelves.drafts > 0 && <>, {counted(shelves.drafts, 'draft', 'drafts')}</>}.
          </>
        )}
      </Standfirst>
      {none ? (
        <Empty
          title="No letters yet"
          action={
            <ButtonLink tone="main" href={`/desk/${slug}/auto-sends`}>
              Connect your blog
            </ButtonLink>
          }
        >
          Write a letter here, or connect your blog, and each new post becomes a letter by itself.
        </Empty>
      ) : (
        <>
          <SubNav
            label="Letters"
            here={shelf === 'all' ? base : `${base}?show=${shelf}`}
            parts={SHELVES.map((one) => ({
              href: one === 'all' ? base : `${base}?show=${one}`,
              label: `${SHELF_NAMES[one]} ${figure(shelves[one])}`,
            }))}
          />
          {letters.length === 0 ? (
            <p className="py-8 text-ink-2">{NOTHING[shelf]}</p>
          ) : (
            <LetterTable
              letters={letters.map((l) => ({ ...l, at: l.startedAt ?? l.dueAt }))}
              slug={slug}
              now={ctx.clock.now()}
              zone={newsletter.time_zone}
            />
          )}
          {more && (
            <p className="mt-4">
              <Link className="link" href={`${base}?${shelf === 'all' ? '' : `show=${shelf}&`}before=${more}`}>
                Older letters
              </Link>
            </p>
          )}
        </>
      )}
    </Screen>
  );
}
