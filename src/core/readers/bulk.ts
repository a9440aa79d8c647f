import Joi from 'joi';
import { type Condition, conditionSchema } from './condition';

/** What can be done to many readers at once. */
export const BULK_ACTS = ['tag', 'untag', 'add', 'take off', 'let go', 'suppress', 'erase'] as const;
export type BulkAct = (typeof BULK_ACTS)[number];

/** How far an act is. */
export type BulkState = 'waiting' | 'working' | 'done' | 'stopped' | 'failed' | 'undoing' | 'undone';

/** How somebody who is added by hand agreed: the writer vouches and says where and when, or they are asked themselves. */
export type Agreement = { how: 'vouched'; said: string } | { how: 'asked' };

export type BulkWhat = { tag?: string; listId?: string; agreement?: Agreement };
/** Whom an act is for: people picked one by one, or all whom a condition and words fit. */
export type Whom = { ids: string[] } | { condition: Condition; find: string };

/** Picked one by one there are never more than were looked at. */
export const MOST_PICKED = 5_000;

const SAY = 'Say in a sentence where and when they agreed: it stands in their record.';
const LEAST_SAID = 10;
export const agreementSchema: Joi.Schema<Agreement> = Joi.object<{ how: Agreement['how']; said: string }>({
  how: Joi.string().valid('vouched', 'asked').required(),
  said: Joi.string().trim().allow('').max(1_000).default('').label('Where and when they agreed'),
}).custom(({ how, said }: { how: Agreement['how']; said: string }, helpers) => {
  if (how === 'asked') return { how };
  return said.length < LEAST_SAID ? helpers.message({ custom: SAY }) : { how, said };
});
/** A name as it may be kept: on one line, or none. */
export const firstNameSchema = Joi.string()
  .trim()
  .allow('')
  .max(80)
  .pattern(/[\u0000-\u001f]/, { invert: true })
  .default('')
  .label('First name');
/** Small letters only, as forms give them: “Reef” and “reef” are one. */
export const tagSchema = Joi.string()
  .trim()
  .lowercase()
  .min(1)
  .max(60)
  .pattern(/[\u0000-\u001f]/, { invert: true })
  .required()
  .label('Tag');
export const whomSchema = Joi.alternatives<Whom>(
  Joi.object({ ids: Joi.array().items(Joi.string().uuid()).min(1).max(MOST_PICKED).required() }),
  Joi.object({ condition: conditionSchema.required(), find: Joi.string().allow('').max(200).default('') }),
);

/** Can it be taken back? What was erased is gone. */
export const canUndo = (act: BulkAct): boolean => act !== 'erase';
