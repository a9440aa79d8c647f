import Joi from 'joi';
import { type Condition, conditionSchema, type Leaf, STANDINGS, type Standing } from './condition';

/** How the readers can stand in order. */
export const ORDERS = ['newest', 'oldest', 'address', 'warmest', 'coldest'] as const;
export type Order = (typeof ORDERS)[number];

/** The columns of the readers' table beside the reader, in their order. */
export const COLUMNS = ['state', 'lists', 'came by', 'form', 'page', 'came', 'tags', 'read', 'last read', 'warmth'] as const;
export type Column = (typeof COLUMNS)[number];
export const FIRST_COLUMNS: readonly Column[] = ['state', 'lists', 'came by', 'read', 'warmth'];

/** What one looks at: words, what is narrowed to, an order. The address bar holds it. */
export type View = {
  find: string;
  state: Standing | null;
  list: string | null;
  tag: string | null;
  source: string | null;
  form: string | null;
  segment: string | null;
  /** A sentence of one's own; 'all of nothing' where nothing is said. */
  where: Condition;
  order: Order;
};

export const EVERYONE: Condition = { kind: 'all', of: [] };
const NARROWED = ['list', 'tag', 'source', 'form', 'segment'] as const;
const uuid = (value: string | undefined) => (value && !Joi.string().uuid().validate(value).error ? value : null);

/** Reads what the address bar says. What is none of it is passed over. */
export function readView(query: Record<string, string | string[] | undefined>): View {
  const one = (name: string): string | undefined => {
    const value = query[name];
    return typeof value === 'string' && value !== '' && !value.includes('\0') ? value.slice(0, 4_000) : undefined;
  };
  return {
    find: (one('q') ?? '').slice(0, 200),
    state: STANDINGS.find((state) => state === one('state')) ?? null,
    list: uuid(one('list')),
    tag: one('tag')?.slice(0, 100) ?? null,
    source: one('source')?.slice(0, 200) ?? null,
    form: uuid(one('form')),
    segment: uuid(one('segment')),
    where: readWhere(one('where')),
    order: ORDERS.find((order) => order === one('order')) ?? 'newest',
  };
}

function readWhere(text: string | undefined): Condition {
  if (!text) return EVERYONE;
  try {
    const { error, value } = conditionSchema.validate(JSON.parse(text));
    return error ? EVERYONE : value;
  } catch {
    return EVERYONE;
  }
}

const isEveryone = (condition: Condition) => condition.kind === 'all' && condition.of.length === 0;

/** A view as the address bar holds it; what stands as at first is not said. */
export function writeView(view: View): URLSearchParams {
  const said: [string, string | null][] = [
    ['q', view.find.trim() || null],
    ['state', view.state],
    ...NARROWED.map((name): [string, string | null] => [name, view[name]]),
    ['where', isEveryone(view.where) ? null : JSON.stringify(view.where)],
    ['order', view.order === 'newest' ? null : view.order],
  ];
  return new URLSearchParams(said.filter((entry): entry is [string, string] => entry[1] !== null));
}

/** Whom a view shows, besides the words that it looks for. */
export function conditionOf(view: View): Condition {
  const of = narrowedTo(view);
  if (!isEveryone(view.where)) return of.length ? { kind: 'all', of: [...of, view.where] } : view.where;
  return of.length === 1 ? of[0]! : { kind: 'all', of };
}

/** What a view is narrowed to, besides its sentence. */
export function narrowedTo(view: View): Leaf[] {
  const of: Leaf[] = [];
  if (view.state) of.push({ kind: 'standing', is: [view.state] });
  if (view.list) {
    // Of a list those who are on it: who reads it, or waits for it where one looks for who waits.
    if (view.state === 'waiting' || view.state === 'left') of.push({ kind: 'list', id: view.list, state: view.state });
    else of.push({ kind: 'list', id: view.list, state: 'reading' });
  }
  if (view.tag) of.push({ kind: 'tag', tag: view.tag });
  if (view.source) of.push({ kind: 'came by', what: 'source', is: view.source });
  if (view.form) of.push({ kind: 'came by', what: 'form', is: view.form });
  if (view.segment) of.push({ kind: 'segment', id: view.segment });
  return of;
}

/** Does it narrow anything at all? */
export const isNarrowed = (view: View): boolean => view.find.trim() !== '' || !isEveryone(conditionOf(view));
