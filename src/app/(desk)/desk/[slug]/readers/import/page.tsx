import type { Metadata } from 'next';
import Link from 'next/link';
import { figure } from '@/core/growth/figures';
import { spokenTime } from '@/core/growth/times';
import { UNDO_DAYS } from '@/core/importing/import';
import { importsOf } from '@/server/transfer/imports';
import { Chip, Note, type NoteTone, Screen, Section, Standfirst } from '@/ui/kit/page';
import { Table } from '@/ui/kit/table';
import { BringFile } from '@/ui/readers/bring-file';
import { deskOf } from '../../../../../desk';

export const metadata: Metadata = { title: 'Bring readers' };

const STATE: Record<string, [NoteTone, string]> = {
  asking: ['know', 'Not looked through'],
  looking: ['know', 'Being looked through'],
  looked: ['look', 'Waits for your word'],
  bringing: ['know', 'Being brought'],
  done: ['fine', 'Brought'],
  stopped: ['look', 'Stopped'],
  failed: ['mend', 'Could not go on'],
  undoing: ['know', 'Being taken back'],
};

export default async function Page({ params }: { params: Promise<{ slug: string }> }) {
  const { slug } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const imports = await importsOf(ctx, newsletter);
  const base = `/desk/${slug}/readers/import`;
  return (
    <Screen
      margin={
        <>
          <Note tone="know" title="Nothing is brought by sending a file">
            You see first what will become of each kind of row, and say where and when these people agreed.
          </Note>
          <Note tone="know" title="Who left stays left">
            Whoever unsubscribed, bounced or complained, here or where the file comes from, is not written to.
          </Note>
          <Note tone="know" title={`Taken back for ${UNDO_DAYS} days`}>
            An import is undone as a whole. Whoever has done something since then, or to whom one of you has, stays.
          </Note>
        </>
      }
    >
      <Standfirst title="Bring readers" trail={[{ label: 'Readers', href: `/desk/${slug}/readers` }]}>
        Bring the people who agreed to your letters somewhere else, out of a file or by pasting their addresses.
      </Standfirst>
      <BringFile to={`${base}/file`} base={base} />
      {imports.length > 0 && (
        <Section title="Files so far" className="mt-8">
          <Table
            label="Files so far"
            columns={[
              { title: 'File' },
              { title: 'State' },
              { title: 'People', figure: true },
              { title: 'By' },
              { title: 'Begun' },
            ]}
            rows={imports.map((one) => {
              const [tone, word] = STATE[one.state] ?? ['know', one.state];
              return {
                key: one.id,
                cells: [
                  <Link key="name" href={`${base}/${one.id}`} className="link font-medium break-all">
                    {one.name}
                  </Link>,
                  <Chip key="state" tone={tone}>
                    {word}
                  </Chip>,
                  figure(one.made),
                  one.by,
                  spokenTime(one.beganAt, ctx.clock.now(), newsletter.time_zone),
                ],
              };
            })}
          />
        </Section>
      )}
    </Screen>
  );
}
