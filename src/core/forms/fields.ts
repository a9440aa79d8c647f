import Joi from 'joi';

/** The kinds of question a form may ask beside the address. Shared with the readers area: an answer belongs to the reader. */
export const FIELD_KINDS = [
  'text',
  'long text',
  'number',
  'phone',
  'date',
  'date and time',
  'yes/no',
  'choice',
  'several choices',
] as const;
export type FieldKind = (typeof FIELD_KINDS)[number];

export type FormField = {
  /** What the answer is kept under: `email` and `first_name` are built in, others belong to the newsletter. */
  key: string;
  kind: 'email' | FieldKind | 'hidden';
  /** What stands over it, in any language; the key stays. */
  label: string;
  placeholder: string;
  help: string;
  required: boolean;
  width: 'full' | 'half';
  /** Of choices. */
  options: string[];
  /** What a hidden field sends. */
  value: string;
};

const field = (part: Partial<FormField> & Pick<FormField, 'key' | 'kind' | 'label'>): FormField => ({
  placeholder: '',
  help: '',
  required: false,
  width: 'full',
  options: [],
  value: '',
  ...part,
});

export const EMAIL_FIELD: FormField = field({
  key: 'email',
  kind: 'email',
  label: 'Email',
  placeholder: 'you@example.com',
  required: true,
  // Beside the button where there is room.
  width: 'half',
});
export const FIRST_NAME_FIELD: FormField = field({ key: 'first_name', kind: 'text', label: 'First name' });
export const newField = (key: string, kind: FieldKind | 'hidden', label: string): FormField =>
  field({ key, kind, label, options: kind.includes('choice') ? ['One', 'Two'] : [] });

const line = (most: number) => Joi.string().trim().max(most);
export const fieldSchema = Joi.object<FormField>({
  key: Joi.string()
    .pattern(/^[a-z][a-z0-9_]{0,39}$/)
    .required(),
  kind: Joi.string()
    .valid('email', ...FIELD_KINDS, 'hidden')
    .required(),
  label: line(80).required().label('Label'),
  placeholder: line(80).allow('').default(''),
  help: line(200).allow('').default(''),
  required: Joi.boolean().default(false),
  width: Joi.string().valid('full', 'half').default('full'),
  options: Joi.array()
    .items(line(80).min(1))
    .max(40)
    .unique()
    .default([])
    .label('Choices')
    .messages({ 'array.unique': 'Two choices are the same.' }),
  value: line(200).allow('').default(''),
}).custom((value: FormField, helpers) =>
  value.kind.includes('choice') && value.options.length < 2
    ? helpers.message({ custom: `“${value.label}” needs at least two choices.` })
    : value,
);

/** What was answered: text, a number, a truth, or several texts; null for nothing. */
export type Answer = string | number | boolean | string[] | null;
export type AnswerProblem = 'missing' | 'too long' | 'not a number' | 'not a date' | 'not a choice';

const LONGEST = { text: 200, 'long text': 4_000, phone: 40 } as const;
const clean = (text: string, keepLines: boolean) =>
  text
    .replace(/\r\n?/g, '\n')
    .replace(keepLines ? /[\u0000-\u0009\u000b-\u001f\u007f\ue000\ue001]+/g : /[\u0000-\u001f\u007f\ue000\ue001]+/g, ' ')
    .trim();

/** Is this a day (YYYY-MM-DD) that the calendar has? */
function isDay(text: string): boolean {
  const match = /^(\d{4})-(\d{2})-(\d{2})$/.exec(text);
  if (!match) return false;
  const date = new Date(`${text}T00:00:00Z`);
  return !Number.isNaN(date.getTime()) && date.toISOString().slice(0, 10) === text;
}

/** Reads one answer as a browser or program sent it. Several choices come one a line. Nothing given is null, a fault if it is required. */
export function readAnswer(of: FormField, sent: string | undefined): { value: Answer } | { problem: AnswerProblem } {
  const text = clean(sent ?? '', of.kind === 'long text' || of.kind === 'several choices');
  if (of.kind === 'hidden') return { value: of.value || null };
  if (of.kind === 'yes/no') {
    const yes = /^(yes|on|true|1)$/i.test(text);
    return of.required && !yes ? { problem: 'missing' } : { value: yes };
  }
  if (text === '') return of.required ? { problem: 'missing' } : { value: null };
  switch (of.kind) {
    case 'number': {
      const number = Number(text.replace(/^([^.]*),([^.,]*)$/, '$1.$2'));
      return Number.isFinite(number) && Math.abs(number) < 1e15 ? { value: number } : { problem: 'not a number' };
    }
    case 'date':
      return isDay(text) ? { value: text } : { problem: 'not a date' };
    case 'date and time':
      return /^\d{4}-\d{2}-\d{2}T([01]\d|2[0-3]):[0-5]\d/.test(text) && isDay(text.slice(0, 10))
        ? { value: text.slice(0, 16) }
        : { problem: 'not a date' };
    case 'choice':
      return of.options.includes(text) ? { value: text } : { problem: 'not a choice' };
    case 'several choices': {
      const chosen = [
        ...new Set(
          text
            .split('\n')
            .map((entry) => entry.trim())
            .filter(Boolean),
        ),
      ];
      return chosen.every((entry) => of.options.includes(entry)) ? { value: chosen } : { problem: 'not a choice' };
    }
    default:
      return text.length <= (LONGEST[of.kind as keyof typeof LONGEST] ?? 200) ? { value: text } : { problem: 'too long' };
  }
}
