import Joi from 'joi';
import { conditionSchema } from '../readers/condition';
import { oneLine } from '../writing/line';
import { isZone } from '../zones';
import type { Audience } from './audience';
import { type Departure, MOST_HOURS } from './departure';
import { DECIDES, LEAST_SHARE, type LetterTest, MOST_TEST_HOURS, MOST_VERSIONS, TRIED, type Version } from './letter-test';

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

const testKeys = {
  by: Joi.valid(...TRIED).required(),
  share: Joi.number().integer().min(LEAST_SHARE).max(100).required().label('Share'),
  decides: Joi.valid(...DECIDES).required(),
  hours: Joi.number().integer().min(1).max(MOST_TEST_HOURS).required().label('Hours'),
  rest: Joi.valid('goes', 'waits').required(),
};
/** A test as it is kept, and what came of it. */
export const keptTestSchema = Joi.object<LetterTest>(testKeys);
const place = Joi.number()
  .integer()
  .min(0)
  .max(MOST_VERSIONS - 1);
const many = Joi.number().integer().min(0).required();
export const keptVerdictSchema = Joi.object({
  winner: place.allow(null).required(),
  leader: place.required(),
  sure: Joi.number().min(0).max(1).required(),
  arms: Joi.array()
    .items(Joi.object({ got: many, did: many }))
    .max(MOST_VERSIONS)
    .required(),
  at: Joi.string().isoDate().required(),
  by: Joi.string().max(200).allow(null).required(),
});
export const letterTestSchema = Joi.object<LetterTest & { versions: Version[] }>({
  ...testKeys,
  versions: Joi.array()
    .items(
      Joi.object({
        subject: Joi.string()
          .custom((value: string) => oneLine(value))
          .max(200)
          .allow('')
          .default('')
          .label('Subject'),
        senderId: Joi.string().uuid().allow(null).default(null),
        beginning: Joi.string().max(2_000).allow('').default('').label('Beginning'),
      }),
    )
    .min(1)
    .max(MOST_VERSIONS - 1)
    .required(),
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
