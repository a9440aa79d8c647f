import Joi from 'joi';
import { tagSchema } from '../readers/bulk';
import type { Part } from './columns';
import { ENCODINGS, type Encoding } from './dialect';
import type { Risk } from './risk';
import type { DateOrder } from './values';

/** How far an import is. 'asking': what its columns are; 'looked': all of it was looked through, and nothing was brought yet. */
export type ImportState = 'asking' | 'looking' | 'looked' | 'bringing' | 'done' | 'stopped' | 'failed' | 'undoing' | 'undone';

/** What becomes of a row. */
export const ROW_KINDS = ['new', 'joins', 'waits', 'known', 'ends', 'twice', 'gone', 'barred', 'bad'] as const;
export type RowKind = (typeof ROW_KINDS)[number];

/** What was found in a file, before anything of it is brought: its rows by their kinds, and whether it looks bought. */
export type Found = { kinds: Partial<Record<RowKind, number>>; risk: Risk };

/** What the writer says of a file before it is looked through. */
export type ImportPlan = {
  parts: Part[];
  dates: DateOrder;
  listId: string;
  /** A tag for everyone of it, or ''. */
  tag: string;
};
/** How a file is read, where it was found out wrongly. */
export type Reading = { encoding: Encoding; delimiter: string; header: boolean };
export const readingSchema = Joi.object<Reading>({
  encoding: Joi.string()
    .valid(...ENCODINGS)
    .required(),
  delimiter: Joi.string().valid(',', ';', '\t', '|', 'tab').required(),
  header: Joi.boolean().truthy('yes').falsy('no').required(),
});

export const planSchema = Joi.object<ImportPlan>({
  parts: Joi.array().items(Joi.string().max(60)).required(),
  dates: Joi.string().valid('day first', 'month first').required(),
  listId: Joi.string().uuid().required().label('List'),
  tag: tagSchema.optional().allow('').default(''),
});

/** So long an import can be taken back as a whole. */
export const UNDO_DAYS = 7;
/** The largest file. */
export const MOST_BYTES = 250_000_000;
