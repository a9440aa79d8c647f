import { SOURCE_KINDS } from '@/core/delivery/dmarc-report';
import { type DomainReports, REPORTED_DAYS, type SourceView } from '@/core/delivery/reported';
import { TLS_FAILURES } from '@/core/delivery/tls-report';
import type { ActionResult } from '@/core/faults';
import { counted, figure, percent, together } from '@/core/growth/figures';
import { spokenTime } from '@/core/growth/times';
import { ActionButton } from '../kit/action-form';
import { Copy } from '../kit/copy';
import { Chip, Note, type NoteTone, Section } from '../kit/page';
import { Table } from '../kit/table';
import { ReportedDays } from './reported-days';
import { UploadReport } from './upload-report';

const TONES: Record<SourceView['kind'], NoteTone> = {
  ours: 'fine',
  'ours, broken': 'mend',
  'others of yours': 'know',
  forwarded: 'know',
  stranger: 'look',
};

/** What was found in a source's mails: its signatures and its return path, as the reporter judged them. */
const found = ({ detail }: SourceView) =>
  [
    ...detail.signatures
      .slice(0, 2)
      .map(({ domain, selector, result }) => `signed by ${domain}${selector ? ` (${selector})` : ''}: ${result}`),
    ...(detail.returnPath ? [`return path ${detail.returnPath.domain}: ${detail.returnPath.result}`] : []),
  ].join('; ') || 'neither signed nor with a return path that holds';

/** What others saw of mail in a domain's name: whose it was, and what a stricter policy would have stopped. */
export function Reported({
  reports,
  name,
  upload,
  letCount,
  now,
  zone,
}: {
  reports: DomainReports;
  name: string;
  upload: string;
  /** Counts a report by its number that no signature vouches for. */
  letCount: (id: string) => Promise<ActionResult<unknown>>;
  now: Date;
  zone: string;
}) {
  const all = reports.kinds.reduce((sum, kind) => sum + kind.mails, 0);
  const believed = reports.kinds.reduce((sum, kind) => sum + kind.aligned, 0);
  const strangers = reports.kinds.find(({ kind }) => kind === 'stranger');
  return (
    <Section
      id="reported"
      title="What others saw in your name"
      aside={
        reports.reporters.length
          ? `${together(reports.reporters.map((one) => one.name))}, the last ${REPORTED_DAYS} days`
          : undefined
      }
    >
      {all === 0 ? (
        <p className="max-w-2xl py-3 text-ink-2">
          Nothing yet. Mailbox providers report once a day what they got in the name of {name}, to the address that its policy
          record names. A report that went elsewhere can be brought here.
        </p>
      ) : (
        <>
          <p className="max-w-2xl py-3 text-ink-2">
            <b className="text-ink">{figure(all)}</b> mails in the name of {name} were reported, and{' '}
            <b className="text-ink">{percent(believed, all)}</b> of them were believed to be yours.{' '}
            {strangers ? `${figure(strangers.mails)} came from strangers.` : 'Nobody else was seen to use your name.'}
          </p>
          {reports.days.length > 1 && <ReportedDays days={reports.days} />}
          <Table
            label="Whose mail it was"
            columns={[
              { title: 'Whose mail' },
              { title: 'Mails', figure: true },
              { title: 'Believed', figure: true },
              { title: 'Into junk', figure: true, hideNarrow: true },
              { title: 'Turned away', figure: true, hideNarrow: true },
            ]}
            rows={reports.kinds.map(({ kind, mails, aligned, quarantined, rejected }) => ({
              key: kind,
              cells: [
                <span key="k" className="block max-w-md">
                  <Chip tone={TONES[kind]}>{SOURCE_KINDS[kind][0]}</Chip>
                  <span className="mt-0.5 block text-small text-ink-2">{SOURCE_KINDS[kind][1]}</span>
                </span>,
                figure(mails),
                percent(aligned, mails),
                quarantined ? figure(quarantined) : '–',
                rejected ? figure(rejected) : '–',
              ],
            }))}
          />
          <h3 className="mt-5 font-serif text-[16px]">Where it came from</h3>
          <Table
            label="Where it came from"
            columns={[
              { title: 'Address' },
              { title: 'Whose' },
              { title: 'Mails', figure: true },
              { title: 'Believed', figure: true },
              { title: 'What was found', hideNarrow: true },
            ]}
            rows={reports.sources.map((source) => ({
              key: `${source.ip} ${source.kind} ${source.who}`,
              cells: [
                <span key="a" className="block">
                  <span className="font-mono text-[13px] break-all">{source.ip ?? 'many small ones'}</span>
                  {source.host && <span className="block text-small break-all text-ink-2">{source.host}</span>}
                </span>,
                SOURCE_KINDS[source.kind][0],
                figure(source.mails),
                percent(source.aligned, source.mails),
                <span key="f" className="block max-w-sm text-small wrap-anywhere text-ink-2">
                  {found(source)}
                </span>,
              ],
            }))}
          />
          {reports.more > 0 && (
            <p className="mt-2 text-small text-ink-2">And {counted(reports.more, 'smaller source', 'smaller sources')}.</p>
          )}
        </>
      )}
      {reports.tls.reports > 0 && (
        <div className="mt-5">
          <h3 className="font-serif text-[16px]">Encryption on the way to us</h3>
          <p className="mt-1 max-w-2xl text-ink-2">
            {counted(reports.tls.good, 'connection was', 'connections were')} encrypted as they should be
            {reports.tls.failed === 0
              ? ', and none failed.'
              : `, and ${figure(reports.tls.failed)} failed: ${reports.tls.failures.map(({ type, host, count }) => `${TLS_FAILURES[type] ?? type}${host ? ` at ${host}` : ''} (${figure(count)})`).join('; ')}.`}
          </p>
        </div>
      )}
      {reports.unread.map(({ id, at, fault, unsigned }) => (
        <Note
          key={id}
          tone="look"
          title={`A report that came ${spokenTime(at, now, zone)} ${unsigned ? 'is not counted' : 'could not be read'}`}
        >
          {fault}
          {unsigned && (
            <>
              {' Anybody could have written it. '}
              <ActionButton action={letCount.bind(null, id)} done="It counts now" tone="quiet">
                Count it all the same
              </ActionButton>
            </>
          )}
        </Note>
      ))}
      <UploadReport to={upload} />
    </Section>
  );
}

/** The next step of the policy, and what it would have stopped. */
export function PolicyNote({ reports, paste }: { reports: DomainReports; paste: string | null }) {
  const { step, policy } = reports;
  if (!step || !policy) return null;
  const stops = step.stops.map(
    ({ kind, mails }) =>
      `${figure(mails)} ${{ ours: 'of yours', 'ours, broken': 'of yours that are not believed', 'others of yours': 'of your other services', forwarded: 'that were forwarded', stranger: 'of strangers' }[kind]}`,
  );
  return (
    <Note
      tone={step.ready ? 'fine' : 'know'}
      title={step.to ? `Next: ask for “${step.to}”${step.ready ? '' : ', not yet'}` : `It asks for “${policy.p}”`}
    >
      {step.why}
      {step.to && (
        <>
          {' '}
          In the last {REPORTED_DAYS} days it would have {step.to === 'reject' ? 'turned away' : 'put into junk'}{' '}
          {stops.length ? together(stops, 5) : 'nothing'}.
        </>
      )}
      {step.ready && paste && (
        <>
          {' '}
          Put this in place of the policy: <span className="font-mono text-[12px] break-all text-ink">{paste}</span>{' '}
          <Copy text={paste} what="the next policy" />
        </>
      )}
    </Note>
  );
}
