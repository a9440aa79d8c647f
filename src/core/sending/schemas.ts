import Joi from 'joi';
import { conditionSchema } from '../readers/condition';
import { isZone } from '../zones';
import type { Audience } from './audience';
import { type Departure, MOST_HOURS } from './departure';

/* What comes from outside, checked. Apart from the types, since browsers need not load it. */

const id = Joi.string().uuid().required();
const part = Joi.alternatives(
  Joi.object({ kind: Joi.valid('list').required(), id }),
  Joi.object({ kind: Joi.valid('tag').required(), tag: Joi.string().max(100).required() }),
  Joi.object({ kind: Joi.valid('segment').required(), id }),
  Joi.object({ kind: Joi.valid('readers').required(), ids: Joi.array().items(Joi.string().uuid()).max(1_000).required() }),
  Joi.object({ kind: Joi.valid('those').required(), condition: conditionSchema.required() }),
);
export const audienceSchema = Joi.object<Audience>({
  to: Joi.array().items(part).min(1).max(100).required(),
  without: Joi.array().items(part).max(100).default([]),
});

export const departureSchema = Joi.object<Departure>({
  when: Joi.valid('now', 'at').required(),
  local: Joi.string()
    .pattern(/^\d{4}-\d{2}-\d{2}T\d{2}:\d{2}$/)
    .allow('')
    .default('')
    .label('Day and hour'),
  zone: Joi.string()
    .max(64)
    .custom((value: string, helpers) => (isZone(value) ? value : helpers.error('any.invalid')))
    .required()
    .label('Zone'),
  fold: Joi.valid('first', 'second').default('first'),
  pace: Joi.alternatives(
    Joi.object({ kind: Joi.valid('at once', 'local hour').required() }),
    Joi.object({ kind: Joi.valid('over hours').required(), hours: Joi.number().integer().min(1).max(MOST_HOURS).required() }),
  ).required(),
});
