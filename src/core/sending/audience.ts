import { type Condition, expand, holds, type Known, type Missing, type Moment, type ReaderFacts } from '../readers/condition';

/** A part of an audience: a list, a tag, a saved segment, people picked one by one, or whoever a condition fits. */
export type Part =
  | { kind: 'list'; id: string }
  | { kind: 'tag'; tag: string }
  | { kind: 'segment'; id: string }
  | { kind: 'readers'; ids: string[] }
  | { kind: 'those'; condition: Condition };

/** Whom a letter is for: everyone in any of these, without everyone in any of those. Nobody is in it twice, and nobody who may not be written to. */
export type Audience = { to: Part[]; without: Part[] };

/** The audience of one list. */
export const ofList = (listId: string): Audience => ({ to: [{ kind: 'list', id: listId }], without: [] });

/** What takes everybody out but those who got a letter and have not opened it, as far as that can be seen. */
export const allButUnread = (letterId: string): Part => ({
  kind: 'those',
  condition: { kind: 'none', of: [{ kind: 'letter', id: letterId, what: 'unread' }] },
});
/** Those of an audience who got a letter and have not opened it. */
export const onlyUnread = (audience: Audience, letterId: string): Audience => ({
  to: audience.to,
  without: [...audience.without, allButUnread(letterId)],
});
/** Does a part take everybody out but those? */
const isAllButUnread = (part: Part, letterId: string): boolean =>
  part.kind === 'those' &&
  part.condition.kind === 'none' &&
  part.condition.of.length === 1 &&
  part.condition.of.some((one) => one.kind === 'letter' && one.what === 'unread' && one.id === letterId);
/** Is it for nobody but those? */
export const isOnlyUnread = (audience: Audience, letterId: string): boolean =>
  audience.without.some((part) => isAllButUnread(part, letterId));
/** The same audience, whether they opened it or not. */
export const withoutUnread = (audience: Audience, letterId: string): Audience => ({
  to: audience.to,
  without: audience.without.filter((part) => !isAllButUnread(part, letterId)),
});

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

function fitsPart(part: Part, reader: ReaderFacts, moment: Moment): boolean {
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
}

/** Judges one reader in memory, as `server/sending/audience` does all of them in SQL. Saved segments are put in before (`expandAudience`). */
export function isIn(audience: Audience, reader: ReaderFacts, moment: Moment): boolean {
  const reads = reader.lists.some((list) => list.state === 'reading');
  const fits = (part: Part) => fitsPart(part, reader, moment);
  // Tags, segments and people mean nothing where nothing is read: consent stands on the lists.
  return reads && audience.to.some(fits) && !audience.without.some(fits);
}

/** Why somebody whom an audience names does not get a letter to it. */
export const OMISSIONS = ['excluded', 'suppressed', 'waiting', 'left', 'paused'] as const;
export type Omission = (typeof OMISSIONS)[number];
export const OMISSION_WORDS: Record<Omission, string> = {
  excluded: 'Taken out by you',
  suppressed: 'Their address takes no mail',
  waiting: 'Have not confirmed',
  left: 'Unsubscribed',
  paused: 'Asked for a pause',
};

/** A list names those who wait on it too; whoever a part fits otherwise is named by it. */
const isNamed = (part: Part, reader: ReaderFacts, moment: Moment): boolean =>
  fitsPart(part, reader, moment) ||
  (part.kind === 'list' && holds({ kind: 'list', id: part.id, state: 'waiting' }, reader, moment));

/**
 * What becomes of one reader when a letter goes to an audience: null where nothing of it names them, else whether they get it or the first reason why not.
 * The same in SQL is `server/sending/reach`.
 */
export function fateOf(
  audience: Audience,
  reader: ReaderFacts & { suppressed: boolean; paused: boolean },
  moment: Moment,
): Omission | 'will' | null {
  if (!audience.to.some((part) => isNamed(part, reader, moment))) return null;
  if (audience.without.some((part) => fitsPart(part, reader, moment))) return 'excluded';
  if (reader.suppressed || reader.standing === 'unreachable') return 'suppressed';
  if (reader.standing === 'left') return 'left';
  if (!isIn(audience, reader, moment)) return 'waiting';
  return reader.paused ? 'paused' : 'will';
}
