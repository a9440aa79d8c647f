import type { Metadata } from 'next';
import Link from 'next/link';
import type { WholeNewsletter } from '@/core/archive/newsletter';
import { figure } from '@/core/growth/figures';
import { spokenTime } from '@/core/growth/times';
import { runtime } from '@/server/runtime';
import { restorePage } from '@/server/transfer/whole-in';
import { ActionButton } from '@/ui/kit/action-form';
import { Note } from '@/ui/kit/page';
import { Refreshing } from '@/ui/kit/refreshing';
import { Table } from '@/ui/kit/table';
import { orNotFound, personHere } from '../../../../desk';
import { bring, throwAway } from '../actions';

export const metadata: Metadata = { title: 'Bring a newsletter back' };

/** What of the file a writer counts. */
const COUNTED: [sheet: string, what: string][] = [
  ['readers', 'Readers'],
  ['consents', 'Entries in the record of consent'],
  ['suppressions', 'Addresses that may not be written to'],
  ['lists', 'Lists'],
  ['tags', 'Tags'],
  ['segments', 'Segments'],
  ['fields', 'Fields'],
  ['forms', 'Forms'],
  ['posts', 'Posts'],
  ['letters', 'Letters'],
  ['deliveries', 'Copies of letters, and what became of them'],
  ['pictures', 'Pictures and files'],
];

export default async function Page({ params }: { params: Promise<{ id: string }> }) {
  const person = await personHere();
  const ctx = await runtime();
  const page = await orNotFound(restorePage(ctx, person.id, (await params).id));
  const { newsletter } = page.whole;
  return (
    <main className="mx-auto max-w-xl px-5 py-[7vh]">
      {page.state === 'bringing' && <Refreshing seconds={1} />}
      <h1 className="font-serif text-title [overflow-wrap:anywhere]">{newsletter.name}</h1>
      <p className="mt-1 mb-7 font-serif text-standfirst text-ink-2">
        Taken out {spokenTime(new Date(page.whole.made_at), ctx.clock.now(), newsletter.time_zone)} by {page.whole.made_by}.
      </p>
      <Step page={page} />
      <Inside whole={page.whole} />
    </main>
  );
}

function Step({ page }: { page: Awaited<ReturnType<typeof restorePage>> }) {
  switch (page.state) {
    case 'asking':
      return (
        <div className="space-y-4">
          <Note tone="know" title="It becomes a newsletter of its own">
            Nothing that is here already is changed. Its forms keep their addresses where nobody has them, so that a site that
            carries them need not be changed.
          </Note>
          <Note tone="look" title="Nothing leaves by itself">
            Senders have to be confirmed again, domains proven with new keys, and what goes out by itself switched on. Letters
            that were waiting wait for you.
          </Note>
          <div className="flex flex-wrap gap-3">
            <ActionButton action={bring.bind(null, page.id)} done="It is being brought back" tone="main">
              Bring it back
            </ActionButton>
            <ActionButton action={throwAway} done="Gone">
              Throw the file away
            </ActionButton>
          </div>
        </div>
      );
    case 'bringing':
      return (
        <div role="status">
          Bringing it back: {Math.floor(page.progress * 100)} %. You may leave this page; you get a mail when all of it is here.
          <progress
            className="mt-1 block h-1.5 w-full accent-verdigris"
            value={page.progress}
            max={1}
            aria-label="How far it is"
          />
        </div>
      );
    case 'done':
      return page.slug ? (
        <Note tone="fine" title="All of it is here">
          <Link className="link font-medium" href={`/desk/${page.slug}/today`}>
            Open {page.whole.newsletter.name}
          </Link>
        </Note>
      ) : (
        <Note tone="know" title="It was brought back, and deleted since">
          Send its file again to bring it back once more.
        </Note>
      );
    case 'failed':
      return (
        <Note tone="mend" title="It could not be brought back">
          {page.cause}{' '}
          <Link className="link" href="/new/back">
            Send another file
          </Link>
        </Note>
      );
  }
}

function Inside({ whole }: { whole: WholeNewsletter }) {
  return (
    <section className="mt-8">
      <h2 className="mb-2 font-serif text-head">In the file</h2>
      <Table
        label="In the file"
        columns={[{ title: 'What' }, { title: 'How many', figure: true }]}
        rows={COUNTED.map(([sheet, what]) => ({ key: sheet, cells: [what, figure(whole.lines[sheet] ?? 0)] }))}
      />
      <p className="mt-3 text-ink-2">
        Not in it: who worked on it, keys and passwords, and links that wait in somebody’s mailbox.
      </p>
    </section>
  );
}
