import type { FewerConfirm } from '@/core/growth/fewer-confirm';
import { counted, figure, percent } from '@/core/growth/figures';
import { type FormSteps, wordOf } from '@/core/growth/measures';
import { Table } from '../kit/table';

type Props = {
  steps: FormSteps;
  firstRead: { of: number; read: number };
  stayed: { of: number; reading: number };
  lost: { of: number; more: boolean; why: { words: string; n: number }[] };
  junk: FewerConfirm[];
  held: number;
};

/** From a form that was seen to a reader who stays, each step beside the one before it; and where those stand who have not confirmed. */
export function FunnelSteps({ steps, firstRead, stayed, lost, junk, held }: Props) {
  const rows: [step: string, n: number, of: number | null, what: string][] = [
    [wordOf('seen'), steps.seen, steps.loaded, 'of shown'],
    [wordOf('begun'), steps.started, steps.seen, 'of really seen'],
    [wordOf('signedUp'), steps.asked, steps.seen, 'of really seen'],
    [wordOf('confirmed'), steps.confirmed, steps.asked, 'of signed up'],
    ['Read a letter', firstRead.read, firstRead.of, 'of those who confirmed and got one'],
    ['Read after 30 days', stayed.reading, stayed.of, 'of those who came that long ago and confirmed'],
  ];
  return (
    <>
      <Table
        label="From seen to reading"
        columns={[
          { title: 'Step' },
          { title: 'People', figure: true },
          { title: 'Share', figure: true },
          { title: 'Of whom', hideNarrow: true },
        ]}
        rows={rows.map(([step, n, of, what]) => ({
          key: step,
          cells: [
            step,
            figure(n),
            of === null ? '' : percent(n, of),
            <span key="w" className="text-small text-ink-2">
              {what}
            </span>,
          ],
        }))}
      />
      {lost.of > 0 && (
        <p className="mt-3 max-w-3xl text-ink-2">
          {lost.more
            ? `Of the latest ${figure(lost.of)} who have not confirmed:`
            : `${counted(lost.of, 'person has', 'people have')} not confirmed:`}{' '}
          {lost.why.map(({ words, n }) => `${words.charAt(0).toLowerCase()}${words.slice(1)} (${figure(n)})`).join('; ')}.
        </p>
      )}
      {junk.map(({ name, low, high }) => (
        <p key={name} className="mt-2 max-w-3xl text-ink-2">
          At <b className="text-ink">{name}</b> far fewer confirm than elsewhere: about {figure(low)} to {figure(high)} more would
          have. Confirmation mails likely land in junk there. Nobody can see whether they are opened, since they carry no picture
          for it.
        </p>
      ))}
      {held > 0 && (
        <p className="mt-2 max-w-3xl text-ink-2">
          {counted(held, 'address was', 'addresses were')} held back as a machine’s, and did not come in by that form; they are
          kept for 30 days. Each form’s figures show who they are, and let a person in.
        </p>
      )}
    </>
  );
}
