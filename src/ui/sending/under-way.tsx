import { counted, figure, percent } from '@/core/growth/figures';
import { type Progress, timeLeftWords } from '@/core/sending/result';
import { Section } from '../kit/page';
import { Table } from '../kit/table';

type Props = {
  progress: Progress;
  counts: { recipients: number; delivered: number; failed: number; cancelled: number };
  /** How many wait for the end of a test. */
  kept: number;
  paused: boolean;
  /** The last copy is due then, in words; null for now. */
  last: string | null;
};

/** How a letter on its way gets on: a bar, what became of its copies so far, by way, and how long it still takes. */
export function UnderWay({ progress, counts, kept, paused, last }: Props) {
  const waiting = Math.max(0, counts.recipients - counts.delivered - counts.failed - counts.cancelled);
  const share = (n: number) => `${counts.recipients ? (100 * n) / counts.recipients : 0}%`;
  const done = counts.recipients - waiting;
  return (
    <Section title="On its way" aside={percent(done, counts.recipients)}>
      <div
        role="progressbar"
        aria-label="Done with"
        aria-valuemin={0}
        aria-valuemax={counts.recipients}
        aria-valuenow={done}
        className="mt-3 flex h-2.5 overflow-hidden rounded-sm bg-rule-2"
      >
        <i className="bg-verdigris" style={{ width: share(counts.delivered) }} />
        <i className="bg-stamp" style={{ width: share(counts.failed) }} />
        <i className="bg-ink-3" style={{ width: share(counts.cancelled) }} />
      </div>
      <dl className="figures mt-2.5 flex flex-wrap gap-x-6 gap-y-1 text-[13px]">
        {(
          [
            ['handed over', counts.delivered, 'bg-verdigris'],
            ['came back', counts.failed, 'bg-stamp'],
            ['cancelled', counts.cancelled, 'bg-ink-3'],
            ['put off', progress.deferred, 'bg-ochre'],
            ['waiting for the test', kept, 'bg-slate'],
          ] as const
        )
          .filter(([, n], k) => n > 0 || k === 0)
          .map(([word, n, colour]) => (
            <div key={word} className="flex items-baseline gap-1.5">
              <i aria-hidden className={`inline-block size-2 ${colour}`} />
              <dt className="order-2 text-ink-2">{word}</dt>
              <dd className="font-semibold">{figure(n)}</dd>
            </div>
          ))}
      </dl>
      <p className="mt-2 text-[13.5px] text-ink-2">
        {paused
          ? 'Nothing leaves until it goes on.'
          : waiting === kept
            ? kept
              ? `${counted(kept, 'person waits', 'people wait')} for the test to be decided.`
              : 'The last of it is being written down.'
            : last
              ? `It leaves over some time: the last of its copies are due ${last}.`
              : progress.left
                ? `${capital(timeLeftWords(progress.left))} more, at the pace of the last minutes.`
                : 'How long it takes can be said once it has gone on for half a minute.'}
      </p>
      <Table
        label="On its way, by mail route"
        columns={[
          { title: 'Way' },
          { title: 'Recipients', figure: true },
          { title: 'Handed over', figure: true },
          { title: 'Put off', figure: true },
          { title: 'Came back', figure: true },
          { title: 'Waiting', figure: true },
        ]}
        rows={progress.ways.map((way) => ({
          key: way.way,
          cells: [
            <span key="w" className="break-all">
              {way.way}
            </span>,
            figure(way.recipients),
            figure(way.delivered),
            figure(way.deferred),
            figure(way.failed),
            figure(way.waiting),
          ],
        }))}
      />
    </Section>
  );
}

const capital = (words: string) => words.charAt(0).toUpperCase() + words.slice(1);
