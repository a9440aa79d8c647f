import Joi from 'joi';
import { type Whom, whomSchema } from './readers/bulk';

/** What can be taken out of each reader; answers are `field ID`. */
export const EXPORT_COLUMNS = {
  address: 'Email',
  'first name': 'First name',
  state: 'State',
  lists: 'Lists',
  tags: 'Tags',
  came: 'Came',
  agreed: 'Agreed',
  source: 'Came by',
  form: 'Form',
  page: 'Page',
  language: 'Language',
  zone: 'Time zone',
  letters: 'Letters got',
  'last read': 'Last read',
  'last clicked': 'Last followed a link',
  warmth: 'Warmth',
  note: 'Note',
} as const;
export type ExportColumn = keyof typeof EXPORT_COLUMNS | `field ${string}`;
export const FIRST_EXPORTED: readonly ExportColumn[] = ['address', 'first name', 'state', 'lists', 'tags', 'agreed'];

export const EXPORT_KINDS = ['csv', 'json lines'] as const;
/** Readers as a file, or the whole newsletter as a zip. */
export type ExportKind = (typeof EXPORT_KINDS)[number] | 'newsletter';
export type ExportState = 'waiting' | 'working' | 'done' | 'stopped' | 'failed';
export const ENDINGS: Record<ExportKind, { ending: string; type: string }> = {
  csv: { ending: 'csv', type: 'text/csv; charset=utf-8' },
  'json lines': { ending: 'jsonl', type: 'application/jsonl; charset=utf-8' },
  newsletter: { ending: 'zip', type: 'application/zip' },
};
/** So long a file that was made can be fetched. */
export const FETCH_DAYS = 7;

export const exportSchema = Joi.object<{ kind: (typeof EXPORT_KINDS)[number]; columns: ExportColumn[]; whom: Whom }>({
  kind: Joi.string()
    .valid(...EXPORT_KINDS)
    .required(),
  columns: Joi.array()
    .items(Joi.string().pattern(/^field [0-9a-f-]{36}$/), Joi.valid(...Object.keys(EXPORT_COLUMNS)))
    .min(1)
    .max(200)
    .unique()
    .required()
    .messages({ 'array.min': 'Choose at least one column.', 'any.required': 'Choose at least one column.' }),
  whom: whomSchema.required(),
});
