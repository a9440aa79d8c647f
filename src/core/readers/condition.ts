import Joi from 'joi';
import type { Answer } from '../forms/fields';
import type { ReaderState } from './state';

/** Where a reader stands over all their lists; 'unreachable' reads something and their address takes no mail. */
export const STANDINGS = ['reading', 'waiting', 'left', 'unreachable'] as const;
export type Standing = (typeof STANDINGS)[number];

/** What of how somebody came can be asked for; a form and an import are named by their ids. */
export const CAME_BY = ['source', 'campaign', 'medium', 'form', 'placement', 'page', 'import'] as const;
export type CameBy = (typeof CAME_BY)[number];

/** A test of an answer, of the kinds of field that it fits. Days are YYYY-MM-DD; `from` and `until` are both within. */
export type FieldTest =
  | { is: 'answered' }
  | { is: 'text'; how: 'is' | 'contains' | 'begins with'; text: string }
  | { is: 'number'; from?: number; until?: number }
  | { is: 'day'; from?: string; until?: string }
  | { is: 'days'; back: number; ahead: number }
  | { is: 'yes'; value: boolean }
  | { is: 'one of'; options: string[] };

/** A condition on a reader as a closed tree. Times are ISO 8601; days are counted back from `now`. */
export type Condition =
  | { kind: 'all' | 'any' | 'none'; of: Condition[] }
  | { kind: 'standing'; is: Standing[] }
  | { kind: 'list'; id: string; state: ReaderState }
  | { kind: 'tag'; tag: string }
  | { kind: 'came by'; what: CameBy; is: string }
  | { kind: 'came'; from?: string; until?: string }
  | { kind: 'came within' | 'sent within' | 'read within' | 'clicked within'; days: number }
  /** How many letters they got in all. */
  | { kind: 'got'; least?: number; most?: number }
  /** How many of the last letters they got were read or clicked. Whoever got fewer than `last` has read no "at most" of them: it is too early to say. */
  | { kind: 'of the last'; last: number; what: 'read' | 'clicked'; least?: number; most?: number }
  /**
   * One letter; `link` is the place of the followed link, any where it is not given. Whoever has it unread got it and has not opened it, as far as their reading
   * can be seen at all.
   */
  | { kind: 'letter'; id: string; what: 'got' | 'read' | 'clicked' | 'unread'; link?: number }
  /** 0 to 100, both within; null for those of whom too little is known. */
  | { kind: 'warmth'; from: number; until: number }
  | { kind: 'warmth unknown' }
  /** `first_name`, or the id of a field. */
  | { kind: 'field'; id: string; test: FieldTest }
  | { kind: 'language' | 'zone' | 'domain'; is: string }
  | { kind: 'segment'; id: string };

export type Leaf = Exclude<Condition, { kind: 'all' | 'any' | 'none' }>;

/** So many letters back is remembered of each reader, one bit a letter. */
export const REMEMBERED = 60;
export const FIRST_NAME = 'first_name';

/** What a condition can ask of a reader. */
export type ReaderFacts = {
  id: string;
  standing: Standing | 'none';
  lists: { id: string; state: ReaderState }[];
  tags: string[];
  came: Partial<Record<CameBy, string | null>>;
  cameAt: Date;
  lastSentAt: Date | null;
  lastReadAt: Date | null;
  lastClickedAt: Date | null;
  /** How many letters they got. */
  got: number;
  /** One bit a letter, the newest lowest: those they read, and those of which they followed a link. */
  recentRead: bigint;
  recentClicked: bigint;
  /** Those that a machine opened, whether they did or not. */
  recentHidden: bigint;
  /** Do they want letters as text alone, in which no opening can be seen? */
  textAlone: boolean;
  warmth: number | null;
  language: string | null;
  zone: string | null;
  domain: string;
  firstName: string | null;
  /** By the ids of fields. */
  answers: ReadonlyMap<string, Answer>;
  /** Of the letters that a condition names: what became of theirs. */
  letters: ReadonlyMap<string, CopyFacts>;
};
/** What became of somebody's copy of a letter. It is hidden where a machine opened it, or no opening of that letter was counted. */
export type CopyFacts = { got: boolean; read: boolean; clicked: boolean; hidden: boolean; links: number[] };

/** Of whose last so many letters some were opened by a machine and none by them, their reading cannot be seen. */
export const UNSEEN_AMONG = 6;
const isSeen = (reader: ReaderFacts) =>
  !reader.textAlone && ((reader.recentHidden & lowest(UNSEEN_AMONG)) === 0n || (reader.recentRead & lowest(UNSEEN_AMONG)) !== 0n);

/** When a condition is asked. `today` is the newsletter's local day. */
export type Moment = { now: Date; today: string };

// No database keeps a NUL in a text.
const text = (most: number) => Joi.string().max(most).pattern(/\0/, { invert: true });
const count = Joi.number().integer().min(0).max(1_000_000);
const days = Joi.number().integer().min(1).max(3_650);
const day = Joi.string().pattern(/^\d{4}-\d{2}-\d{2}$/);
const id = Joi.string().uuid();
const kinds = (...names: string[]) =>
  Joi.string()
    .valid(...names)
    .required();
const either = { least: count, most: count };

const testSchema = Joi.alternatives<FieldTest>(
  Joi.object({ is: kinds('answered') }),
  Joi.object({ is: kinds('text'), how: Joi.valid('is', 'contains', 'begins with').required(), text: text(200).required() }),
  Joi.object({ is: kinds('number'), from: Joi.number(), until: Joi.number() }).or('from', 'until'),
  Joi.object({ is: kinds('day'), from: day, until: day }).or('from', 'until'),
  Joi.object({ is: kinds('days'), back: count.max(36_500).required(), ahead: count.max(36_500).required() }),
  Joi.object({ is: kinds('yes'), value: Joi.boolean().required() }),
  Joi.object({ is: kinds('one of'), options: Joi.array().items(text(80)).min(1).max(40).required() }),
);

/** Nested at most so deep, and of so many parts at most: far more than anybody reads, and little enough for any database. */
const DEEPEST = 8;
const MOST_PARTS = 200;

const tree: Joi.Schema<Condition> = Joi.alternatives(
  Joi.object({ kind: kinds('all', 'any', 'none'), of: Joi.array().items(Joi.link('#conditionTree')).max(50).required() }),
  Joi.object({
    kind: kinds('standing'),
    is: Joi.array()
      .items(Joi.valid(...STANDINGS))
      .min(1)
      .unique()
      .required(),
  }),
  Joi.object({ kind: kinds('list'), id: id.required(), state: Joi.valid('reading', 'waiting', 'left').required() }),
  Joi.object({ kind: kinds('tag'), tag: text(100).required() }),
  Joi.object({ kind: kinds('came by'), what: Joi.valid(...CAME_BY).required(), is: text(300).required() }),
  Joi.object({ kind: kinds('came'), from: Joi.string().isoDate(), until: Joi.string().isoDate() }).or('from', 'until'),
  Joi.object({ kind: kinds('came within', 'sent within', 'read within', 'clicked within'), days: days.required() }),
  Joi.object({ kind: kinds('got'), ...either }).or('least', 'most'),
  Joi.object({
    kind: kinds('of the last'),
    last: Joi.number().integer().min(1).max(REMEMBERED).required(),
    what: Joi.valid('read', 'clicked').required(),
    ...either,
  }).or('least', 'most'),
  Joi.object({
    kind: kinds('letter'),
    id: id.required(),
    what: Joi.valid('got', 'read', 'clicked', 'unread').required(),
    link: Joi.number().integer().min(0).max(10_000),
  }),
  Joi.object({
    kind: kinds('warmth'),
    from: Joi.number().integer().min(0).max(100).required(),
    until: Joi.number().integer().min(0).max(100).required(),
  }),
  Joi.object({ kind: kinds('warmth unknown') }),
  Joi.object({ kind: kinds('field'), id: Joi.alternatives(Joi.valid(FIRST_NAME), id).required(), test: testSchema.required() }),
  Joi.object({ kind: kinds('language', 'zone', 'domain'), is: text(255).required() }),
  Joi.object({ kind: kinds('segment'), id: id.required() }),
).id('conditionTree');

/** A tree from outside: known kinds, no deeper and no larger than anybody can read. */
export const conditionSchema: Joi.Schema<Condition> = tree.custom((value: Condition, helpers) =>
  depthOf(value) > DEEPEST || leavesOf(value).length > MOST_PARTS ? helpers.error('any.invalid') : value,
);

const isGroup = (condition: Condition): condition is Extract<Condition, { of: Condition[] }> => 'of' in condition;
const depthOf = (condition: Condition): number =>
  isGroup(condition) ? 1 + Math.max(0, ...condition.of.map((one) => depthOf(one))) : 0;
export const leavesOf = (condition: Condition): Leaf[] =>
  isGroup(condition) ? condition.of.flatMap((one) => leavesOf(one)) : [condition];

/** Text as it is compared: canonical, and each letter small by itself, so that it does not matter which program does it. */
export const folded = (text: string): string => [...text.normalize('NFC')].map((letter) => letter.toLowerCase()).join('');
export const ofLanguage = (tag: string): string => tag.toLowerCase().split('-')[0] ?? '';

const DAY_MS = 86_400_000;
/** A local day so many days away. */
export const dayAway = (today: string, by: number): string =>
  new Date(Date.parse(`${today}T00:00:00Z`) + by * DAY_MS).toISOString().slice(0, 10);
/** The lowest so many bits. */
export const lowest = (bits: number): bigint => (1n << BigInt(bits)) - 1n;

/** How many of the lowest so many bits are set. */
export const howManyOf = (bits: bigint, lowestOnes: number): number =>
  (bits & lowest(lowestOnes)).toString(2).replaceAll('0', '').length;
const within = (value: number, { least, most }: { least?: number; most?: number }) =>
  (least === undefined || value >= least) && (most === undefined || value <= most);

/**
 * Does a condition hold of a reader? All of none holds, any of none does not; what is not known of somebody is not so. The same tree becomes SQL in
 * `server/readers/conditions`. Saved segments are put in before (`expand`); one that is not holds nobody.
 */
export function holds(condition: Condition, reader: ReaderFacts, moment: Moment): boolean {
  const since = (at: Date | null, back: number) => at !== null && at.getTime() >= moment.now.getTime() - back * DAY_MS;
  switch (condition.kind) {
    case 'all':
      return condition.of.every((one) => holds(one, reader, moment));
    case 'any':
      return condition.of.some((one) => holds(one, reader, moment));
    case 'none':
      return !condition.of.some((one) => holds(one, reader, moment));
    case 'standing':
      return condition.is.some((standing) => standing === reader.standing);
    case 'list':
      return reader.lists.some((list) => list.id === condition.id && list.state === condition.state);
    case 'tag':
      return reader.tags.includes(condition.tag);
    case 'came by':
      return reader.came[condition.what] === condition.is;
    case 'came':
      return (
        (condition.from === undefined || reader.cameAt >= new Date(condition.from)) &&
        (condition.until === undefined || reader.cameAt < new Date(condition.until))
      );
    case 'came within':
      return since(reader.cameAt, condition.days);
    case 'sent within':
      return since(reader.lastSentAt, condition.days);
    case 'read within':
      return since(reader.lastReadAt, condition.days);
    case 'clicked within':
      return since(reader.lastClickedAt, condition.days);
    case 'got':
      return within(reader.got, condition);
    case 'of the last': {
      if (condition.most !== undefined && reader.got < condition.last) return false;
      const recent = condition.what === 'read' ? reader.recentRead : reader.recentClicked;
      return within(howManyOf(recent, condition.last), condition);
    }
    case 'letter': {
      const theirs = reader.letters.get(condition.id);
      if (!theirs) return false;
      if (condition.what === 'unread') return theirs.got && !theirs.read && !theirs.clicked && !theirs.hidden && isSeen(reader);
      return condition.what === 'clicked' && condition.link !== undefined
        ? theirs.links.includes(condition.link)
        : theirs[condition.what];
    }
    case 'warmth':
      return reader.warmth !== null && reader.warmth >= condition.from && reader.warmth <= condition.until;
    case 'warmth unknown':
      return reader.warmth === null;
    case 'field':
      if (condition.id !== FIRST_NAME) return answers(condition.test, reader.answers.get(condition.id) ?? null, moment.today);
      // A name is a text, whatever it looks like.
      return (
        ['answered', 'text', 'one of'].includes(condition.test.is) && answers(condition.test, reader.firstName, moment.today)
      );
    case 'language':
      return reader.language !== null && ofLanguage(reader.language) === condition.is;
    case 'zone':
      return reader.zone === condition.is;
    case 'domain':
      return reader.domain === condition.is;
    case 'segment':
      return false;
  }
}

function answers(test: FieldTest, answer: Answer, today: string): boolean {
  if (answer === null || answer === '' || (Array.isArray(answer) && answer.length === 0)) return false;
  switch (test.is) {
    case 'answered':
      return true;
    case 'text': {
      if (typeof answer !== 'string') return false;
      const [said, asked] = [folded(answer), folded(test.text)];
      return test.how === 'is' ? said === asked : test.how === 'contains' ? said.includes(asked) : said.startsWith(asked);
    }
    case 'number':
      return typeof answer === 'number' && within(answer, { least: test.from, most: test.until });
    case 'day':
    case 'days': {
      if (typeof answer !== 'string' || !/^\d{4}-\d{2}-\d{2}/.test(answer)) return false;
      const on = answer.slice(0, 10);
      const { from, until } = test.is === 'day' ? test : { from: dayAway(today, -test.back), until: dayAway(today, test.ahead) };
      return (from === undefined || on >= from) && (until === undefined || on <= until);
    }
    case 'yes':
      return typeof answer === 'boolean' && answer === test.value;
    case 'one of':
      return Array.isArray(answer)
        ? answer.some((one) => test.options.includes(one))
        : typeof answer === 'string' && test.options.includes(answer);
  }
}

/** What the newsletter has, by what conditions name it. */
export type Known = {
  lists: ReadonlyMap<string, string>;
  tags: ReadonlySet<string>;
  forms: ReadonlyMap<string, string>;
  imports: ReadonlyMap<string, string>;
  fields: ReadonlyMap<string, string>;
  /** The day under which its copies stand; '' where it has not left yet. */
  letters: ReadonlyMap<string, string>;
  segments: ReadonlyMap<string, { name: string; condition: Condition }>;
};

/** A thing that a condition names and that is not there any more, or a segment that leads back to itself. */
export type Missing = 'list' | 'tag' | 'form' | 'import' | 'field' | 'letter' | 'segment' | 'circle';

const NOBODY: Condition = { kind: 'any', of: [] };

/**
 * A condition with the saved segments that it names put in, and what it names that is not there. Where anything is missing it holds nobody, whatever else
 * it says: "none of a list that was deleted" must never become everyone.
 */
export function expand(condition: Condition, known: Known): { condition: Condition; missing: Missing[] } {
  const missing = new Set<Missing>();
  const put = (one: Condition, inside: readonly string[]): Condition => {
    if (isGroup(one)) return { kind: one.kind, of: one.of.map((part) => put(part, inside)) };
    if (one.kind === 'segment') {
      const segment = known.segments.get(one.id);
      if (!segment || inside.includes(one.id) || inside.length >= DEEPEST) {
        missing.add(segment ? 'circle' : 'segment');
        return NOBODY;
      }
      return put(segment.condition, [...inside, one.id]);
    }
    const gone = lacks(one, known);
    if (gone) missing.add(gone);
    return one;
  };
  const whole = put(condition, []);
  return missing.size ? { condition: NOBODY, missing: [...missing] } : { condition: whole, missing: [] };
}

function lacks(leaf: Leaf, known: Known): Missing | null {
  switch (leaf.kind) {
    case 'list':
      return known.lists.has(leaf.id) ? null : 'list';
    case 'tag':
      return known.tags.has(leaf.tag) ? null : 'tag';
    case 'letter':
      return known.letters.has(leaf.id) ? null : 'letter';
    case 'field':
      return leaf.id === FIRST_NAME || known.fields.has(leaf.id) ? null : 'field';
    case 'came by':
      if (leaf.what === 'import') return known.imports.has(leaf.is) ? null : 'import';
      return leaf.what === 'form' && !known.forms.has(leaf.is) ? 'form' : null;
    default:
      return null;
  }
}
