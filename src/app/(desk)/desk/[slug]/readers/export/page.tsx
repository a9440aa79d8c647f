import type { Metadata } from 'next';
import { FETCH_DAYS } from '@/core/exporting';
import { counted, figure } from '@/core/growth/figures';
import { spokenTime } from '@/core/growth/times';
import { may } from '@/core/newsletters/roles';
import { fieldChoices } from '@/server/forms/fields';
import { type ExportLine, exportsOf } from '@/server/transfer/exports';
import { ActionButton, ActionForm } from '@/ui/kit/action-form';
import { Note, Screen, Section, Sheet, Standfirst } from '@/ui/kit/page';
import { Refreshing } from '@/ui/kit/refreshing';
import { Table } from '@/ui/kit/table';
import { ExportFields } from '@/ui/readers/export-fields';
import { deskOf } from '../../../../../desk';
import { drop, stop, takeAllOut, takeWholeOut } from './actions';

export const metadata: Metadata = { title: 'Export' };

const megabytes = (bytes: number) =>
  bytes < 1_000_000 ? `${figure(Math.max(1, Math.round(bytes / 1_000)))} kB` : `${figure(Math.round(bytes / 1_000_000))} MB`;

export default async function Page({ params }: { params: Promise<{ slug: string }> }) {
  const { slug } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const files = await exportsOf(ctx, newsletter);
  const open = files.some((one) => one.state === 'waiting' || one.state === 'working');
  return (
    <Screen
      margin={
        <>
          <Note tone="know" title="Some of them only">
            Look for them among your readers, choose them, and press Export there.
          </Note>
          <Note tone="look" title="It is personal data">
            Keep the file where nobody else reads it, and delete it when it has served. It stands here for {FETCH_DAYS} days.
          </Note>
        </>
      }
    >
      {open && <Refreshing seconds={1} />}
      <Standfirst title="Export" trail={[{ label: 'Readers', href: `/desk/${slug}/readers` }]}>
        Take your readers, or all of your newsletter, with you in open formats whenever you like.
      </Standfirst>
      {files.length > 0 && (
        <Section title="Files">
          <Table
            label="Files"
            columns={[
              { title: 'Begun' },
              { title: 'What' },
              { title: 'State' },
              { title: 'By' },
              { title: 'Acts', silent: true },
            ]}
            rows={files.map((one) => ({
              key: one.id,
              cells: [
                spokenTime(one.beganAt, ctx.clock.now(), newsletter.time_zone),
                one.kind === 'newsletter'
                  ? 'The whole newsletter'
                  : counted(one.state === 'done' ? one.done : one.people, 'reader', 'readers'),
                <State key="state" one={one} href={`/desk/${slug}/readers/export/${one.id}`} />,
                one.by,
                <span key="acts" className="flex justify-end">
                  {one.state === 'waiting' || one.state === 'working' ? (
                    <ActionButton action={stop.bind(null, slug, one.id)} done="Stopped">
                      Stop
                    </ActionButton>
                  ) : (
                    <ActionButton action={drop.bind(null, slug, one.id)} done="Gone">
                      Throw away
                    </ActionButton>
                  )}
                </span>,
              ],
            }))}
          />
        </Section>
      )}
      <Section title="Everybody, as a file">
        <Sheet className="mt-3 max-w-2xl">
          <ActionForm
            action={takeAllOut.bind(null, slug)}
            submit="Write the file"
            done="It is being written; you get a mail when it can be fetched"
          >
            <ExportFields fields={await fieldChoices(ctx, newsletter)} />
          </ActionForm>
        </Sheet>
      </Section>
      {may(newsletter.role, 'own') && (
        <Section title="The whole newsletter" id="whole">
          <p className="mt-2 max-w-2xl">
            One zip with all of it: readers, the record of consent, lists, tags, segments, forms, posts as Markdown and HTML,
            letters as messages, pictures and results. It can be brought back from there into a newsletter of its own, here or on
            another installation.
          </p>
          <p className="mt-2 mb-3 max-w-2xl text-ink-2">
            Not in it: who works on it, keys and passwords, since they are secrets, and links that wait in somebody’s mailbox.
          </p>
          <ActionButton action={takeWholeOut.bind(null, slug)} done="It is being written; you get a mail when it can be fetched">
            Write the whole newsletter
          </ActionButton>
        </Section>
      )}
    </Screen>
  );
}

const KIND_NAMES = { csv: 'CSV', 'json lines': 'JSON Lines', newsletter: 'zip' };

function State({ one, href }: { one: ExportLine; href: string }) {
  switch (one.state) {
    case 'done':
      return one.fetch ? (
        <a className="link font-medium" href={href} download>
          Fetch it: {KIND_NAMES[one.kind]}, {megabytes(one.size)}
        </a>
      ) : (
        'No longer here'
      );
    case 'stopped':
      return 'Stopped; nothing of it is kept.';
    case 'failed':
      return `It could not go on: ${one.cause}`;
    default:
      return (
        <span role="status">
          {figure(one.done)} of{' '}
          {one.kind === 'newsletter' ? counted(one.people, 'line', 'lines') : counted(one.people, 'reader', 'readers')}
          <progress
            className="mt-1 block h-1.5 w-40 accent-verdigris"
            value={one.done}
            max={one.people || 1}
            aria-label="How far it is"
          />
        </span>
      );
  }
}
