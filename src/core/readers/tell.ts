import { figure } from '../growth/figures';
import { type CameBy, type Condition, FIRST_NAME, type FieldTest, type Leaf, type Standing } from './condition';

/** What things are called that a condition names by their ids. */
export type Names = {
  lists: Record<string, string>;
  forms: Record<string, string>;
  imports: Record<string, string>;
  fields: Record<string, string>;
  letters: Record<string, string>;
  segments: Record<string, string>;
};

export const STANDING_WORDS: Record<Standing, string> = {
  reading: 'reading',
  waiting: 'waiting to confirm',
  left: 'unsubscribed',
  unreachable: 'out of reach',
};
const GONE = 'something that was deleted';
const CAME: Record<CameBy, (is: string, names: Names) => string> = {
  source: (is) => is,
  campaign: (is) => `the campaign “${is}”`,
  medium: (is) => `way of ${is}`,
  form: (is, names) => `the form ${quoted(names.forms[is])}`,
  import: (is, names) => `the file ${quoted(names.imports[is])}`,
  placement: (is) => `a form as ${is}`,
  page: (is) => `a form on ${is}`,
};

const quoted = (name: string | undefined) => (name === undefined ? GONE : `“${name}”`);
const or = (all: string[]) => (all.length > 1 ? `${all.slice(0, -1).join(', ')} or ${all.at(-1)}` : (all[0] ?? 'nothing'));
const daysWords = (days: number) => (days === 1 ? 'day' : `${figure(days)} days`);
const languages = new Intl.DisplayNames('en-GB', { type: 'language' });
const day = (iso: string) =>
  new Date(iso).toLocaleDateString('en-GB', { day: 'numeric', month: 'long', year: 'numeric', timeZone: 'UTC' });

/** Bounds in words: "at least 3", "3 to 5", "none". */
function bounds({ least, most }: { least?: number; most?: number }): string {
  if (least !== undefined && most !== undefined)
    return least === most ? `just ${figure(least)}` : `${figure(least)} to ${figure(most)}`;
  return least !== undefined ? `at least ${figure(least)}` : most === 0 ? 'none' : `at most ${figure(most ?? 0)}`;
}

function answer(test: FieldTest): string {
  switch (test.is) {
    case 'answered':
      return '';
    case 'text':
      return test.how === 'is' ? ` with “${test.text}”` : ` with what ${test.how} “${test.text}”`;
    case 'number':
      return ` with ${bounds({ least: test.from, most: test.until })}`;
    case 'day':
      return ` with a day ${[test.from && `from ${day(test.from)}`, test.until && `to ${day(test.until)}`].filter(Boolean).join(' ')}`;
    case 'days':
      return test.ahead === 0
        ? ` with a day in the last ${daysWords(test.back)}`
        : ` with a day ${test.back === 0 ? '' : `from ${daysWords(test.back)} ago `}to ${daysWords(test.ahead)} from now`;
    case 'yes':
      return ` with ${test.value ? 'yes' : 'no'}`;
    case 'one of':
      return ` with ${or(test.options)}`;
  }
}

/** A leaf as it follows "people who …", or the contrary of it. */
export function leafWords(leaf: Leaf, not: boolean, names: Names): string {
  const either = (yes: string, no: string) => (not ? no : yes);
  switch (leaf.kind) {
    case 'standing':
      return `${either('are', 'are not')} ${or(leaf.is.map((standing) => STANDING_WORDS[standing]))}`;
    case 'list': {
      const list = names.lists[leaf.id] ?? GONE;
      if (leaf.state === 'reading') return `${either('read', 'do not read')} ${list}`;
      if (leaf.state === 'waiting') return `${either('wait', 'do not wait')} to confirm ${list}`;
      return `${either('unsubscribed', 'never unsubscribed')} from ${list}`;
    }
    case 'tag':
      return `${either('have', 'do not have')} the tag “${leaf.tag}”`;
    case 'came by':
      return `${either('came', 'did not come')} by ${CAME[leaf.what](leaf.is, names)}`;
    case 'came':
      return `${either('came', 'did not come')} ${[leaf.from && `from ${day(leaf.from)}`, leaf.until && `before ${day(leaf.until)}`].filter(Boolean).join(' and ')}`;
    case 'came within':
      return `${either('came', 'did not come')} in the last ${daysWords(leaf.days)}`;
    case 'sent within':
      return `${either('were sent', 'were not sent')} a letter in the last ${daysWords(leaf.days)}`;
    case 'read within':
      return `${either('read', 'have not read')} a letter in the last ${daysWords(leaf.days)}`;
    case 'clicked within':
      return `${either('followed', 'have not followed')} a link in the last ${daysWords(leaf.days)}`;
    case 'got':
      return `${either('got', 'did not get')} ${bounds(leaf)} of your letters`;
    case 'of the last': {
      const did =
        leaf.what === 'read' ? either('read', 'have not read') : either('followed links in', 'have not followed links in');
      return `${did} ${bounds(leaf)} of the last ${figure(leaf.last)} letters they got`;
    }
    case 'letter': {
      const letter = quoted(names.letters[leaf.id]);
      if (leaf.what === 'got') return `${either('got', 'did not get')} ${letter}`;
      if (leaf.what === 'read') return `${either('read', 'did not read')} ${letter}`;
      if (leaf.what === 'unread')
        return either(
          `got ${letter} and have not opened it, as far as that can be seen`,
          `did not get ${letter}, have opened it, or read unseen`,
        );
      return `${either('followed', 'did not follow')} ${leaf.link === undefined ? 'a link' : `link ${leaf.link + 1}`} in ${letter}`;
    }
    case 'warmth':
      return `${either('have', 'do not have')} a warmth of ${leaf.from} to ${leaf.until}`;
    case 'warmth unknown':
      return either('are too new to say how warm they are', 'are known well enough to say how warm they are');
    case 'field': {
      if (leaf.id !== FIRST_NAME)
        return `${either('answered', 'did not answer')} ${quoted(names.fields[leaf.id])}${answer(leaf.test)}`;
      if (leaf.test.is === 'text' && leaf.test.how !== 'is')
        return `${either('have', 'do not have')} a first name that ${leaf.test.how} “${leaf.test.text}”`;
      return `${either('gave', 'did not give')} a first name${answer(leaf.test).replace(' with ', ': ')}`;
    }
    case 'language':
      return `${either('signed up', 'did not sign up')} in ${languages.of(leaf.is) ?? leaf.is}`;
    case 'zone':
      return `${either('live', 'do not live')} by the clock of ${leaf.is.split('/').at(-1)!.replaceAll('_', ' ')}`;
    case 'domain':
      return `${either('have', 'do not have')} an address at ${leaf.is}`;
    case 'segment':
      return `${either('are', 'are not')} in ${quoted(names.segments[leaf.id])}`;
  }
}

/** The leaf of a condition that is one or denies one; null of what has more parts. */
export function plainLeaf(condition: Condition): { leaf: Leaf; not: boolean } | null {
  if (!('of' in condition)) return { leaf: condition, not: false };
  const [only, ...more] = condition.of;
  return condition.kind === 'none' && only && more.length === 0 && !('of' in only) ? { leaf: only, not: true } : null;
}

/** A condition as a sentence that one can read aloud. */
export function tell(condition: Condition, names: Names): string {
  const isAll = 'of' in condition && condition.of.length === 0;
  if (isAll) return condition.kind === 'any' ? 'Nobody.' : 'Everyone.';
  return `People who ${clause(condition, names)}.`;
}

function clause(condition: Condition, names: Names): string {
  const plain = plainLeaf(condition);
  if (plain) return leafWords(plain.leaf, plain.not, names);
  const { kind, of } = condition as Extract<Condition, { of: Condition[] }>;
  if (of.length === 0) return kind === 'any' ? 'are nobody' : 'are anybody';
  const parts = of.map((one) => (plainLeaf(one) ? clause(one, names) : `(${clause(one, names)})`));
  if (kind === 'all') return parts.join(', and who ');
  return kind === 'any' ? parts.join(', or who ') : `are none of those who ${parts.join(', or who ')}`;
}
