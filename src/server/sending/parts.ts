import { sql } from 'kysely';
import { type Condition, FIRST_NAME } from '@/core/readers/condition';
import type { Audience, Part } from '@/core/sending/audience';

/* What differs in a letter from reader to reader: what they gave, and the segments that its parts are for. Asked of all at once, or of one. */

/** What a reader `r` gave for a field, in words; null for nothing. Several answers stand with commas between them. */
export const answerSql = (field: string) =>
  field === FIRST_NAME
    ? sql`nullif(r.first_name, '')`
    : sql`(select case jsonb_typeof(a.value) when 'array' then (select string_agg(one, ', ') from jsonb_array_elements_text(a.value) one) else nullif(a.value #>> '{}', '') end
           from reader_answers a join fields f on f.id = a.field_id where a.reader_id = r.id and f.key = ${field})`;

/** The segments of a letter's parts, as an audience that can be asked for. */
export const partsOf = (segments: string[]): Audience => ({ to: segments.map((id) => ({ kind: 'segment', id })), without: [] });

/** Who is in one of them, once the segments are put in. */
export const conditionOf = (part: Part): Condition | null =>
  part.kind === 'segment' ? part : part.kind === 'those' ? part.condition : null;
