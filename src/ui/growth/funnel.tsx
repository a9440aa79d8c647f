import { figure, percent } from '@/core/growth/figures';

type Step = { label: string; value: number; of?: { value: number; words: string } };

/** From seeing a form to reading: each step with its count and its share of the one before. */
export function Funnel({
  loaded,
  sentIn,
  confirmed,
  waiting,
}: {
  loaded: number;
  sentIn: number;
  confirmed: number;
  waiting: number;
}) {
  const steps: Step[] = [
    { label: 'Form was shown', value: loaded },
    { label: 'Sent it in', value: sentIn, of: { value: loaded, words: 'of shown' } },
    {
      label: 'Confirmed by email',
      value: confirmed,
      of: { value: sentIn, words: waiting ? `of sent in, ${figure(waiting)} still waiting` : 'of sent in' },
    },
  ];
  const most = Math.max(1, ...steps.map((step) => step.value));
  return (
    <dl className="figures">
      {steps.map((step, n) => (
        <div key={step.label} className="grid grid-cols-[8.5rem_5rem_1fr] items-center gap-x-3 border-b border-rule-2 py-3">
          <dt>{step.label}</dt>
          <dd className="contents">
            <span
              aria-hidden
              className="h-3.5 rounded-xs bg-verdigris"
              style={{ width: `${Math.max(2, (80 * step.value) / most)}px`, opacity: 1 - n * 0.22 }}
            />
            <span>
              <b>{figure(step.value)}</b>
              {step.of && (
                <span className="ml-2 text-small text-ink-2">
                  {percent(step.value, step.of.value)} {step.of.words}
                </span>
              )}
            </span>
          </dd>
        </div>
      ))}
    </dl>
  );
}
