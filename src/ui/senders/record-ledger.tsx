import clsx from 'clsx';
import { difference, type Run } from '@/core/senders/difference';
import type { Judgement } from '@/core/senders/judge';
import { TTL_SECONDS, type WantedRecord } from '@/core/senders/records';
import { Copy } from '../kit/copy';
import { Chip, type NoteTone } from '../kit/page';

type Line = WantedRecord & { judgement: Judgement | null };

const TONE: Record<Judgement['verdict'], NoteTone> = {
  right: 'fine',
  look: 'look',
  missing: 'look',
  absent: 'know',
  differs: 'mend',
  several: 'mend',
  unanswered: 'know',
};

/** A long value in the middle of which nothing can be told apart is shortened; copying always takes the whole. */
const short = (value: string) => (value.length > 130 ? `${value.slice(0, 72)}…${value.slice(-18)}` : value);
const MONO = 'font-mono text-[12.5px] break-all';

/** A time to live as people say it: "40 minutes", "an hour". */
export const spokenSpan = (seconds: number) =>
  seconds < 90
    ? `${Math.max(1, Math.round(seconds))} seconds`
    : seconds < 5_400
      ? `${Math.round(seconds / 60)} minutes`
      : `${Math.round(seconds / 3600)} hours`;

/**
 * DNS records as rows: what it is for, type, host and value to copy, what was found, the difference letter by letter. `remembered` says
 * for how many seconds resolvers may still give the old answer.
 */
export function RecordLedger({ records, remembered = {} }: { records: Line[]; remembered?: Record<string, number> }) {
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
            <Row key={record.purpose} record={record} remembered={remembered[record.purpose]} />
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Row({ record, remembered }: { record: Line; remembered?: number }) {
  const { judgement } = record;
  const paste = judgement?.paste ?? record.value;
  const apart =
    judgement &&
    ['differs', 'several', 'look', 'right'].includes(judgement.verdict) &&
    judgement.found.length > 0 &&
    record.value !== '' &&
    !judgement.found.includes(paste);
  const runs = apart && judgement.found.length === 1 ? difference(judgement.found[0] ?? '', paste) : null;
  return (
    <tr data-purpose={record.purpose} className="border-b border-rule-2 align-top">
      <td className="w-56 min-w-44 px-2.5 py-3">
        <b>{record.title}</b>
        <span className="block text-small text-ink-2">{record.explains}</span>
        <span className="mt-1 block text-small text-ink-3">{record.why}</span>
      </td>
      <td className="px-2.5 py-3 font-mono text-[12.5px]">{record.type}</td>
      <td className="min-w-72 px-2.5 py-3">
        <div className={MONO}>
          <span data-host>{record.host}</span> <Copy text={record.host} what={`the host ${record.host}`} />
          <span className="ml-1 text-ink-3">
            {record.name} <Copy text={record.name} what={`the whole host ${record.name}`} />
          </span>
        </div>
        {record.value && (
          <div className={MONO}>
            {runs ? <Marked runs={runs} show="added" /> : short(paste)}{' '}
            <Copy text={paste} what={`the value for ${record.title.toLowerCase()}`} />
            <span hidden data-value>
              {paste}
            </span>
          </div>
        )}
        {(apart || (!record.value && judgement)) &&
          judgement.found.map((found) => (
            <div key={found} className={clsx(MONO, 'text-ink-2')}>
              found: {runs ? <Marked runs={runs} show="removed" /> : short(found)}
            </div>
          ))}
        {judgement?.sentence && (
          <p className="mt-1 max-w-xl text-[13px] text-ink-2">
            {judgement.sentence}
            {judgement.rfc && judgement.verdict !== 'right' && judgement.verdict !== 'absent' && (
              <span className="ml-1.5 text-small whitespace-nowrap text-ink-3">{judgement.rfc}</span>
            )}
          </p>
        )}
        {remembered !== undefined && (
          <p className="mt-1 max-w-xl text-[13px] text-ochre">
            Published. Some mailboxes may remember the old answer for {spokenSpan(remembered)} more.
          </p>
        )}
      </td>
      <td className="px-2.5 py-3 whitespace-nowrap">
        {judgement ? <Chip tone={TONE[judgement.verdict]}>{judgement.label}</Chip> : <Chip tone="know">Not checked</Chip>}
      </td>
    </tr>
  );
}

function Marked({ runs, show }: { runs: Run[]; show: 'added' | 'removed' }) {
  return runs
    .filter((run) => run.mark === 'same' || run.mark === show)
    .map((run, n) => (
      <span
        key={n}
        className={clsx(
          run.mark === 'added' && 'rounded-xs bg-verdigris-tint font-medium text-verdigris-ink',
          run.mark === 'removed' && 'rounded-xs bg-stamp-tint text-stamp',
        )}
      >
        {short(run.text)}
      </span>
    ));
}

/** Said once under a ledger: what holds for all of its records. */
export const LedgerFoot = ({ zone }: { zone: string | null }) => (
  <p className="mt-2 text-small text-ink-2">
    Hosts are written as DNS hosts want them{zone ? `, relative to ${zone}` : ''}; the whole name stands beside each. Time to
    live: {TTL_SECONDS} seconds, or whatever your host starts with.
  </p>
);
