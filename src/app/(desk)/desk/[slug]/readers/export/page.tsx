import type { Metadata } from 'next';
import { FETCH_DAYS } from '@/core/exporting';
import { counted, figure } from '@/core/growth/figures';
import { spokenTime } from '@/core/growth/times';
import { fieldChoices } from '@/server/forms/fields';
import { type ExportLine, exportsOf } from '@/server/transfer/exports';
import { ActionButton, ActionForm } from '@/ui/kit/action-form';
import { Note, Screen, Section, Sheet, Standfirst } from '@/ui/kit/page';
import { Refreshing } from '@/ui/kit/refreshing';
import { Table } from '@/ui/kit/table';
import { ExportFields } from '@/ui/readers/export-fields';
import { deskOf } from '../../../../../desk';
import { drop, stop, takeAllOut } from './actions';

export const metadata: Metadata = { title: 'Export readers' };

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
      <Standfirst title="Export readers" trail={[{ label: 'Readers', href: `/desk/${slug}/readers` }]}>
        Take your readers with you, in an open format, whenever you like.
      </Standfirst>
      {files.length > 0 && (
        <Section title="Files">
          <Table
            label="Files"
            columns={[
              { title: 'Begun' },
              { title: 'Readers', figure: true },
              { title: 'State' },
              { title: 'By' },
              { title: 'Acts', silent: true },
            ]}
            rows={files.map((one) => ({
              key: one.id,
              cells: [
                spokenTime(one.beganAt, ctx.clock.now(), newsletter.time_zone),
                figure(one.state === 'done' ? one.done : one.people),
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
    </Screen>
  );
}

function State({ one, href }: { one: ExportLine; href: string }) {
  switch (one.state) {
    case 'done':
      return one.fetch ? (
        <a className="link font-medium" href={href} download>
          Fetch it: {one.kind === 'csv' ? 'CSV' : 'JSON Lines'}, {megabytes(one.size)}
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
          {figure(one.done)} of {counted(one.people, 'reader', 'readers')}
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
