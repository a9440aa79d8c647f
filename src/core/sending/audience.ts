import Joi from 'joi';
import {
  type Condition,
  conditionSchema,
  expand,
  holds,
  type Known,
  type Missing,
  type Moment,
  type ReaderFacts,
} from '../readers/condition';

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

/** The conditions that an audience says itself. */
export const conditionsIn = (audience: Audience): Condition[] =>
  [...audience.to, ...audience.without].flatMap((one): Condition[] =>
    one.kind === 'those' ? [one.condition] : one.kind === 'tag' || one.kind === 'segment' ? [one] : [],
  );

/**
 * An audience with its saved segments put in, and what it names that is not there. A part with something missing holds nobody; that what is taken away
 * would hold nobody either is why a letter with anything missing must not leave.
 */
export function expandAudience(audience: Audience, known: Known): { audience: Audience; missing: Missing[] } {
  const missing = new Set<Missing>();
  const put = (one: Part): Part => {
    if (one.kind === 'readers') return one;
    if (one.kind === 'list') {
      if (!known.lists.has(one.id)) missing.add('list');
      return one;
    }
    const whole = expand(one.kind === 'those' ? one.condition : one, known);
    for (const gone of whole.missing) missing.add(gone);
    return one.kind === 'tag' ? one : { kind: 'those', condition: whole.condition };
  };
  return { audience: { to: audience.to.map(put), without: audience.without.map(put) }, missing: [...missing] };
}

/** Judges one reader in memory, as `server/sending/audience` does all of them in SQL. Saved segments are put in before (`expandAudience`). */
export function isIn(audience: Audience, reader: ReaderFacts, moment: Moment): boolean {
  const reads = reader.lists.some((list) => list.state === 'reading');
  const fits = (part: Part): boolean => {
    switch (part.kind) {
      case 'list':
        return holds({ kind: 'list', id: part.id, state: 'reading' }, reader, moment);
      case 'readers':
        return part.ids.includes(reader.id);
      case 'tag':
      case 'segment':
        return holds(part, reader, moment);
      case 'those':
        return holds(part.condition, reader, moment);
    }
  };
  // Tags, segments and people mean nothing where nothing is read: consent stands on the lists.
  return reads && audience.to.some(fits) && !audience.without.some(fits);
}
