import Joi from 'joi';
import { type Condition, conditionSchema, type Leaf, STANDINGS, type Standing } from './condition';
import { DEGREES, type Degree, rangeOf } from './warmth';

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
  /** How warm they are, by what it is called; 'unknown' where too little is known. */
  warmth: Degree | 'unknown' | null;
  /** A sentence of one's own; 'all of nothing' where nothing is said. */
  where: Condition;
  order: Order;
};

export const EVERYONE: Condition = { kind: 'all', of: [] };
const NOBODY: Condition = { kind: 'any', of: [] };
const NARROWED = ['list', 'tag', 'source', 'form', 'segment', 'warmth'] as const;
const uuid = (value: string) => (Joi.string().uuid().validate(value).error ? null : value);

/** Reads what the address bar says. Whatever narrows and cannot be read shows nobody: a sentence that was cut off must never become everyone. */
export function readView(query: Record<string, string | string[] | undefined>): View {
  const one = (name: string): string | undefined => {
    const value = query[name];
    return typeof value === 'string' && value !== '' ? value : undefined;
  };
  const faults = new Set<string>();
  const read = <T>(name: string, to: (value: string) => T | null | undefined): T | null => {
    const value = one(name);
    const known = value === undefined || value.includes('\0') ? undefined : to(value);
    if (query[name] !== undefined && query[name] !== '' && (known === undefined || known === null)) faults.add(name);
    return known ?? null;
  };
  const view: View = {
    find: read('q', (value) => value.slice(0, 200)) ?? '',
    state: read('state', (value) => STANDINGS.find((state) => state === value)),
    list: read('list', uuid),
    tag: read('tag', (value) => value.slice(0, 100)),
    source: read('source', (value) => value.slice(0, 200)),
    form: read('form', uuid),
    segment: read('segment', uuid),
    warmth: read('warmth', (value) => [...DEGREES.map((one) => one.word), 'unknown' as const].find((word) => word === value)),
    where: read('where', readWhere) ?? EVERYONE,
    order: ORDERS.find((order) => order === one('order')) ?? 'newest',
  };
  return faults.size ? { ...view, where: NOBODY } : view;
}

function readWhere(text: string): Condition | null {
  try {
    const { error, value } = conditionSchema.validate(JSON.parse(text));
    return error ? null : value;
  } catch {
    return null;
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
  // Whoever reads, where no state is chosen: so many as stand beside a list, a tag, a source and a form everywhere.
  if (view.state) of.push({ kind: 'standing', is: [view.state] });
  else if (view.list || view.tag || view.source || view.form || view.warmth) of.push({ kind: 'standing', is: ['reading'] });
  if (view.list) {
    // Of a list those who are on it: who reads it, or waits for it where one looks for who waits.
    if (view.state === 'waiting' || view.state === 'left') of.push({ kind: 'list', id: view.list, state: view.state });
    else of.push({ kind: 'list', id: view.list, state: 'reading' });
  }
  if (view.tag) of.push({ kind: 'tag', tag: view.tag });
  if (view.source) of.push({ kind: 'came by', what: 'source', is: view.source });
  if (view.form) of.push({ kind: 'came by', what: 'form', is: view.form });
  if (view.segment) of.push({ kind: 'segment', id: view.segment });
  if (view.warmth) of.push(view.warmth === 'unknown' ? { kind: 'warmth unknown' } : { kind: 'warmth', ...rangeOf(view.warmth) });
  return of;
}

/** Does it narrow anything at all? */
export const isNarrowed = (view: View): boolean => view.find.trim() !== '' || !isEveryone(conditionOf(view));
