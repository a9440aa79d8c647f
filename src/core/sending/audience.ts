import Joi from 'joi';
import { type Condition, conditionSchema, holds, type ReaderFacts } from '../readers/condition';

/** A part of an audience: a list, a tag, a saved segment, people picked one by one, or whoever a condition fits. */
export type Part =
  | { kind: 'list'; id: string }
  | { kind: 'tag'; tag: string }
  | { kind: 'segment'; id: string }
  | { kind: 'readers'; ids: string[] }
  | { kind: 'those'; condition: Condition };

/** Whom a letter is for: everyone in any of these, without everyone in any of those. Nobody is in it twice, and nobody who may not be written to. */
export type Audience = { to: Part[]; without: Part[] };

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

/** The audience of one list. */
export const ofList = (listId: string): Audience => ({ to: [{ kind: 'list', id: listId }], without: [] });

/** The lists that an audience names: what somebody leaves who leaves a letter to it. */
export const listsIn = (audience: Audience): string[] => audience.to.flatMap((part) => (part.kind === 'list' ? [part.id] : []));

/** Judges one reader in memory, as `server/sending/audience` does all of them in SQL. A segment that is gone holds nobody. */
export function isIn(audience: Audience, reader: ReaderFacts, segments: ReadonlyMap<string, Condition>): boolean {
  const fits = (part: Part): boolean => {
    switch (part.kind) {
      case 'list':
        return reader.reading.includes(part.id);
      // Tags, segments and people mean nothing where nothing is read: consent stands on the lists.
      case 'tag':
        return reader.reading.length > 0 && reader.tags.includes(part.tag);
      case 'readers':
        return reader.reading.length > 0 && part.ids.includes(reader.id);
      case 'segment': {
        const condition = segments.get(part.id);
        return condition !== undefined && reader.reading.length > 0 && holds(condition, reader);
      }
      case 'those':
        return reader.reading.length > 0 && holds(part.condition, reader);
    }
  };
  return audience.to.some(fits) && !audience.without.some(fits);
}
