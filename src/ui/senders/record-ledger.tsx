import clsx from 'clsx';
import { difference } from '@/core/senders/difference';
import type { Judgement } from '@/core/senders/judge';
import type { WantedRecord } from '@/core/senders/records';
import { Copy } from '../kit/copy';
import { Chip, type NoteTone } from '../kit/page';

const TONE: Record<Judgement['verdict'], NoteTone> = {
  right: 'fine',
  missing: 'look',
  differs: 'mend',
  several: 'mend',
  unanswered: 'know',
};

/** A long value in the middle of which nothing can be told apart is shortened; copying always takes the whole. */
const short = (value: string) => (value.length > 130 ? `${value.slice(0, 72)}…${value.slice(-18)}` : value);

/** DNS records as rows: what it is for, type, host and value to copy, what was found, the difference letter by letter. */
export function RecordLedger({ records }: { records: (WantedRecord & { judgement: Judgement | null })[] }) {
  return (
    <div className="overflow-x-auto">
      <table className="w-full border-collapse">
        <thead>
          <tr className="border-b text-left text-[12px] text-ink-2">
            {['What it is for', 'Type', 'Host and value', 'Found'].map((title) => (
              <th key={title} scope="col" className="px-2.5 py-2.5 font-semibold">
                {title}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {records.map((record) => (
            <Row key={record.purpose} record={record} judgement={record.judgement} />
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Row({ record, judgement }: { record: WantedRecord; judgement: Judgement | null }) {
  const paste = judgement?.paste ?? record.value;
  const wrong = judgement && judgement.verdict !== 'right' && judgement.verdict !== 'unanswered';
  const runs = wrong && judgement.found.length === 1 ? difference(judgement.found[0] ?? '', paste) : null;
  const mono = 'font-mono text-[12.5px] break-all';
  return (
    <tr data-purpose={record.purpose} className="border-b border-rule-2 align-top">
      <td className="min-w-32 px-2.5 py-3">
        <b>{record.title}</b>
        <span className="block text-small text-ink-2">{record.explains}</span>
      </td>
      <td className="px-2.5 py-3 font-mono text-[12.5px]">{record.type}</td>
      <td className="w-full min-w-72 px-2.5 py-3">
        <div className={mono}>
          <span data-host>{record.host}</span> <Copy text={record.host} what={`the host ${record.host}`} />
          <span className="ml-1 text-ink-3">{record.name}</span>
        </div>
        <div className={mono}>
          {runs
            ? runs
                .filter((run) => run.mark !== 'removed')
                .map((run, n) => (
                  <span
                    key={n}
                    className={clsx(run.mark === 'added' && 'rounded-xs bg-verdigris-tint font-medium text-verdigris-ink')}
                  >
                    {run.mark === 'same' || run.text.length < 130 ? run.text : short(run.text)}
                  </span>
                ))
            : short(paste)}{' '}
          <Copy text={paste} what={`the value for ${record.title.toLowerCase()}`} />
          <span hidden data-value>
            {paste}
          </span>
        </div>
        {wrong &&
          judgement.found.map((found) => (
            <div key={found} className={clsx(mono, 'text-ink-2')}>
              found:{' '}
              {runs
                ? runs
                    .filter((run) => run.mark !== 'added')
                    .map((run, n) => (
                      <span key={n} className={clsx(run.mark === 'removed' && 'rounded-xs bg-stamp-tint text-stamp')}>
                        {run.text.length < 130 ? run.text : short(run.text)}
                      </span>
                    ))
                : short(found)}
            </div>
          ))}
        {judgement?.sentence && <p className="mt-1 max-w-xl text-[13px] text-ink-2">{judgement.sentence}</p>}
      </td>
      <td className="px-2.5 py-3 whitespace-nowrap">
        {judgement ? <Chip tone={TONE[judgement.verdict]}>{judgement.label}</Chip> : <Chip tone="know">Not checked</Chip>}
      </td>
    </tr>
  );
}
