import Joi from 'joi';

/** A condition on a reader as a closed tree. Times are ISO 8601, days are counted back from `now`. */
export type Condition =
  | { kind: 'all' | 'any' | 'none'; of: Condition[] }
  | { kind: 'tag'; tag: string }
  | { kind: 'on list'; id: string }
  | { kind: 'source'; name: string }
  | { kind: 'came'; from?: string; until?: string }
  | { kind: 'read within' | 'clicked within'; days: number };

/** What a condition can ask of a reader. */
export type ReaderFacts = {
  id: string;
  /** The lists they read. */
  reading: string[];
  tags: string[];
  source: string;
  cameAt: Date;
  lastReadAt: Date | null;
  lastClickedAt: Date | null;
  now: Date;
};

export const conditionSchema: Joi.Schema<Condition> = Joi.alternatives(
  Joi.object({
    kind: Joi.valid('all', 'any', 'none').required(),
    of: Joi.array().items(Joi.link('#conditionTree')).max(50).required(),
  }),
  Joi.object({ kind: Joi.valid('tag').required(), tag: Joi.string().max(100).required() }),
  Joi.object({ kind: Joi.valid('on list').required(), id: Joi.string().uuid().required() }),
  Joi.object({ kind: Joi.valid('source').required(), name: Joi.string().max(200).required() }),
  Joi.object({ kind: Joi.valid('came').required(), from: Joi.string().isoDate(), until: Joi.string().isoDate() }),
  Joi.object({
    kind: Joi.valid('read within', 'clicked within').required(),
    days: Joi.number().integer().min(1).max(3_650).required(),
  }),
).id('conditionTree');

const since = (at: Date | null, days: number, now: Date) => at !== null && at.getTime() >= now.getTime() - days * 86_400_000;

/** Does a condition hold of a reader? All of none holds, any of none does not. The same tree becomes SQL in `server/readers/conditions`. */
export function holds(condition: Condition, reader: ReaderFacts): boolean {
  switch (condition.kind) {
    case 'all':
      return condition.of.every((one) => holds(one, reader));
    case 'any':
      return condition.of.some((one) => holds(one, reader));
    case 'none':
      return !condition.of.some((one) => holds(one, reader));
    case 'tag':
      return reader.tags.includes(condition.tag);
    case 'on list':
      return reader.reading.includes(condition.id);
    case 'source':
      return reader.source === condition.name;
    case 'came':
      return (
        (condition.from === undefined || reader.cameAt >= new Date(condition.from)) &&
        (condition.until === undefined || reader.cameAt < new Date(condition.until))
      );
    case 'read within':
      return since(reader.lastReadAt, condition.days, reader.now);
    case 'clicked within':
      return since(reader.lastClickedAt, condition.days, reader.now);
  }
}
