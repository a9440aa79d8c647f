import { figure, percent } from '@/core/growth/figures';
import { type FormSteps, wordOf } from '@/core/growth/measures';

type Step = { label: string; value: number; of?: { value: number; words: string } };

/** From seeing a form to reading: each step with its count and its share of the one before. */
export function Funnel({ steps: { loaded, asked, confirmed, reading } }: { steps: FormSteps }) {
  const steps: Step[] = [
    { label: wordOf('shown'), value: loaded },
    { label: wordOf('signedUp'), value: asked, of: { value: loaded, words: 'of shown' } },
    { label: wordOf('confirmed'), value: confirmed, of: { value: asked, words: 'of signed up' } },
    { label: wordOf('reading'), value: reading, of: { value: confirmed, words: 'of confirmed' } },
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
