import type { FormDefinition } from './definition';
import type { FormField } from './fields';

const VALUES: Record<FormField['kind'], (field: FormField) => string> = {
  email: () => '',
  text: () => 'A try',
  'long text': () => 'A try of the form by its own writer.',
  number: () => '7',
  phone: () => '000 000',
  date: () => '2000-01-31',
  'date and time': () => '2000-01-31T12:00',
  'yes/no': () => 'yes',
  choice: (field) => field.options[0] ?? '',
  'several choices': (field) => field.options[0] ?? '',
  hidden: (field) => field.value,
};

/** What a visitor might send in by this form with this address: everything that has to be answered, and every list. */
export function sampleAnswers(form: FormDefinition, address: string): Record<string, string> {
  const answers: Record<string, string> = { email: address };
  for (const field of form.fields)
    if (field.kind !== 'email' && (field.required || field.kind === 'hidden')) answers[field.key] = VALUES[field.kind](field);
  if (form.consent) answers.consent = 'yes';
  if (form.listChoice.length) answers.lists = form.listChoice.join('\n');
  return answers;
}
