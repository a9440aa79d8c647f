import Joi from 'joi';
import { Fault } from '@/core/faults';
import { whole } from '@/core/writing/slots';

/**
 * Text as it can be kept and sent: lines end with a newline alone, and what no database and no mail can hold (NUL, other control characters, halves
 * of characters) is left out. Files and what is no text stay as they are.
 */
function keepable(input: unknown): unknown {
  if (typeof input === 'string')
    return whole(input.replace(/\r\n?/g, '\n').replace(/[\u0000-\u0008\u000b\u000c\u000e-\u001f\u007f]/g, ''));

  if (Array.isArray(input)) return input.map(keepable);
  if (input !== null && typeof input === 'object' && Object.getPrototypeOf(input) === Object.prototype)
    return Object.fromEntries(Object.entries(input).map(([name, value]) => [name, keepable(value)]));
  return input;
}

/**
 * Input from outside held against a schema: the value with defaults, or a fault with one sentence a field. `label()` in the
 * schema gives the field's name as a person reads it.
 */
export function check<T>(schema: Joi.Schema<T>, input: unknown): T {
  const { value, error } = schema.validate(keepable(input), {
    abortEarly: false,
    stripUnknown: true,
    errors: { wrap: { label: '“”' } },
    messages: {
      'string.empty': '{#label} is empty.',
      'any.required': '{#label} is missing.',
      'string.max': '{#label} is longer than {#limit} characters.',
      'string.min': '{#label} needs at least {#limit} characters.',
    },
  });
  if (!error) return value as T;
  const fields: Record<string, string> = {};
  for (const detail of error.details) fields[detail.path.join('.')] ??= detail.message;
  throw new Fault('invalid', Object.values(fields)[0] ?? 'This could not be read.', fields);
}

/** A name that a writer gives to something of theirs: one line of at most 80 characters. */
export const ownName = (): Joi.StringSchema =>
  Joi.string()
    .trim()
    .min(1)
    .max(80)
    .pattern(/[\u0000-\u001f]/, { invert: true })
    .required()
    .label('Name');
