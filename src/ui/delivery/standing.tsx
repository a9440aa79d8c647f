import { REASONS } from '@/core/delivery/reason';
import { PLACES_SHORT, type Place } from '@/core/delivery/seeds';
import { COMPLAINTS, junkWords, type ReasonView, type Standing } from '@/core/delivery/standing';
import { figure, percent } from '@/core/growth/figures';
import { Chip } from '../kit/page';
import { Table } from '../kit/table';

const whole = (share: number) => Math.round(100 * share);
/** How each provider treats the letters, with its worst trouble and the one thing to do. */
export function Standings({ standings, boxes }: { standings: Standing[]; boxes: ReadonlyMap<string, Place> }) {
  return (
    <Table
      label="Providers"
      columns={[
        { title: 'Provider' },
        { title: 'Copies', figure: true },
        { title: 'Taken', figure: true },
        { title: 'Complaints', figure: true, hideNarrow: true },
        { title: 'Landed in junk', figure: true, hideNarrow: true },
        { title: 'How it is now, and what to do' },
      ]}
      rows={standings.map((one) => ({
        key: one.name,
        cells: [
          <b key="n" className="wrap-anywhere md:inline-block md:min-w-36">
            {one.name}
          </b>,
          figure(one.settled),
          percent(one.copies.delivered, one.settled),
          <span key="c" title={`${one.copies.complained} of ${figure(one.copies.delivered)}`}>
            {one.copies.complained ? `${((100 * one.copies.complained) / Math.max(1, one.copies.delivered)).toFixed(2)}%` : '–'}
          </span>,
          <span key="j" className="whitespace-nowrap text-ink-2">
            {junkWords(one.junk)}
            {boxes.has(one.name) && <span className="block text-small">your box: {PLACES_SHORT[boxes.get(one.name)!]}</span>}
          </span>,
          <span key="s" className="block max-w-md">
            <Chip tone={one.tone}>{one.state}</Chip>
            {one.tone !== 'fine' && (
              <span className="mt-1 block text-small text-ink-2">
                {one.why} {one.todo !== 'Nothing.' && <b className="font-semibold text-ink">{one.todo}</b>}
              </span>
            )}
          </span>,
        ],
      }))}
    />
  );
}

/** Why copies did not arrive, in the servers' own words. */
export function Reasons({ reasons }: { reasons: ReasonView[] }) {
  return (
    <Table
      label="Reasons"
      columns={[
        { title: 'Reason' },
        { title: 'Not arrived', figure: true },
        { title: 'Put off', figure: true },
        { title: 'Their words', hideNarrow: true },
        { title: 'What to do', hideNarrow: true },
      ]}
      rows={reasons.map(({ reason, ended, putOff, words }) => {
        const [name, meaning, todo] = REASONS[reason];
        return {
          key: reason,
          cells: [
            <span key="n" className="block max-w-56">
              <b>{name}</b>
              <span className="block text-small text-ink-2">{meaning}</span>
            </span>,
            ended ? figure(ended) : '–',
            putOff ? figure(putOff) : '–',
            <span key="w" className="block max-w-sm">
              {words.map(({ example, share }) => (
                <span key={example} className="block font-mono text-[12px] wrap-anywhere text-ink-2">
                  {example}
                  {words.length > 1 && <span className="font-sans"> · {whole(share)}%</span>}
                </span>
              ))}
            </span>,
            <span key="t" className="block max-w-64 text-small text-ink-2">
              {todo}
            </span>,
          ],
        };
      })}
    />
  );
}

/** The complaint rate against the lines that the large providers publish, as a bar that is read without colour. */
export function ComplaintLine({ complained, delivered }: { complained: number; delivered: number }) {
  const rate = delivered ? complained / delivered : 0;
  const most = Math.max(0.004, rate * 1.15);
  const at = (share: number) => `${(100 * share) / most}%`;
  return (
    <div className="py-3">
      <p className="text-ink-2">
        <b className="text-ink">{figure(complained)}</b> of {figure(delivered)} copies were reported as junk:{' '}
        <b className="text-ink">{delivered ? `${(100 * rate).toFixed(2)}%` : '–'}</b>.{' '}
        {rate >= COMPLAINTS.mend
          ? 'That is beyond the line where large providers turn letters away.'
          : rate >= COMPLAINTS.look
            ? 'That is beyond the line where large providers look closer.'
            : 'That is within what large providers accept.'}
      </p>
      <div aria-hidden className="relative mt-6 h-2.5 max-w-xl rounded-sm bg-rule-2">
        <div
          className={`h-full rounded-sm ${rate >= COMPLAINTS.mend ? 'bg-stamp' : rate >= COMPLAINTS.look ? 'bg-ochre' : 'bg-verdigris'}`}
          style={{ width: at(rate) }}
        />
        {[COMPLAINTS.look, COMPLAINTS.mend].map((line) => (
          <span
            key={line}
            className="absolute -top-5 border-l border-ink pl-1 text-[12px] text-ink-2"
            style={{ left: at(line), height: 30 }}
          >
            {(100 * line).toFixed(1)}%
          </span>
        ))}
      </div>
    </div>
  );
}
