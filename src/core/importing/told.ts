import { counted, figure, plural, together } from '../growth/figures';
import type { RowKind } from './import';

type Counts = Partial<Record<RowKind, number>>;
/** Before it is known whether the writer vouches: what is asked of whom is said for both. */
type As = { list: string; how: 'vouched' | 'asked' | 'refused' | null };

const TITLES: Record<RowKind, string> = {
  new: 'New to you',
  joins: 'Here already, not on this list',
  known: 'On this list already',
  waits: 'Never confirmed there',
  ends: 'Left, bounced or complained there',
  twice: 'In the file twice',
  gone: 'Left you by themselves',
  barred: 'Suppressed or erased here',
  bad: 'Cannot be read',
};

/** What becomes of a kind of row, in words: before it is brought, and after. */
export function kindWords(kind: RowKind, { list, how }: As): { title: string; words: string } {
  if (how === 'refused') return { title: TITLES[kind], words: 'Not brought.' };
  return { title: TITLES[kind], words: wordsOf(kind, { list, how }) };
}

function wordsOf(kind: RowKind, { list, how }: As): string {
  switch (kind) {
    case 'new':
      if (how === 'asked') return `Asked by a confirmation letter for ${list}.`;
      return how === 'vouched' ? `Read ${list} from then on.` : `Become readers of ${list}, as you answer below.`;
    case 'joins':
      return `${how === 'asked' ? `Asked for ${list} by a confirmation letter` : `Put on ${list} as well`}; name, answers and tags are added where there are none.`;
    case 'known':
      return 'Stay as they are; name, answers and tags are added where there are none.';
    case 'waits':
      if (how === 'asked') return `Asked by a confirmation letter for ${list}.`;
      return how === 'vouched'
        ? 'Not brought: nobody can vouch for them.'
        : 'Brought only if everybody is asked by a confirmation letter.';
    case 'ends':
      return 'Not brought, and their addresses are suppressed: nothing goes there from here either.';
    case 'twice':
      return 'The strictest of their rows counts, else the first.';
    case 'gone':
      return 'Not brought back: they come back only by their own act.';
    case 'barred':
      return 'Not brought.';
    case 'bad':
      return 'Not brought; you can mend them in a file of their own and bring that.';
  }
}

const total = (counts: Counts, ...kinds: RowKind[]) => kinds.reduce((sum, kind) => sum + (counts[kind] ?? 0), 0);

/** What an import will do, or did, as one sentence. */
export function tellImport(counts: Counts, { list, how }: As, done: boolean): string {
  const rows = Object.values(counts).reduce((sum, n) => sum + n, 0);
  if (rows === 0) return 'There is no row in it.';
  if (how === 'refused') return `These ${counted(rows, 'row', 'rows')} look bought or scraped, and are not brought.`;
  const comes = total(counts, 'new', 'joins', ...(how === 'asked' ? (['waits'] as const) : []));
  const verb =
    how === 'asked'
      ? done
        ? plural(comes, 'was asked', 'were asked')
        : plural(comes, 'is asked', 'are asked')
      : done
        ? plural(comes, 'became a reader', 'became readers')
        : plural(comes, 'becomes a reader', 'become readers');
  const parts = [
    comes ? `${figure(comes)} ${verb} ${how === 'asked' ? 'for' : 'of'} ${list}` : `nobody new ${done ? 'came' : 'comes'}`,
  ];
  const say = (n: number, words: string) => {
    if (n) parts.push(`${figure(n)} ${words}`);
  };
  const known = total(counts, 'known');
  say(known, plural(known, 'is on it already', 'are on it already'));
  const ends = total(counts, 'ends');
  say(ends, done ? plural(ends, 'was suppressed', 'were suppressed') : plural(ends, 'is suppressed', 'are suppressed'));
  const stays = total(counts, 'gone', 'barred', 'twice', ...(how === 'asked' ? [] : (['waits'] as const)));
  say(stays, done ? plural(stays, 'was passed over', 'were passed over') : plural(stays, 'is passed over', 'are passed over'));
  const bad = total(counts, 'bad');
  say(bad, done ? 'could not be read' : 'cannot be read');
  return `Of ${counted(rows, 'row', 'rows')}, ${together(parts, 9)}.`;
}
