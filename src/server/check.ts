import type Joi from 'joi';
import { Fault } from '@/core/faults';

/**
 * Input from outside held against a schema: the value with defaults, or a fault with one sentence a field. `label()` in the
 * schema gives the field's name as a person reads it.
 */
export function check<T>(schema: Joi.Schema<T>, input: unknown): T {
  const { value, error } = schema.validate(input, {
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
