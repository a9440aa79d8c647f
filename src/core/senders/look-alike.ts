import { domainToUnicode } from 'node:url';

/** Letters and letter pairs that look like others, brought to one form. */
const PAIRS: [RegExp, string][] = [
  [/rn/g, 'm'],
  [/vv/g, 'w'],
  [/cl/g, 'd'],
  [/[0οо]/g, 'o'],
  [/[1lіı|]/g, 'i'],
  [/[аα]/g, 'a'],
  [/[еε]/g, 'e'],
  [/[рρ]/g, 'p'],
  [/[сϲ]/g, 'c'],
  [/[хχ]/g, 'x'],
  [/[уγ]/g, 'y'],
  [/[5]/g, 's'],
  [/-/g, ''],
];
const skeleton = (name: string) =>
  PAIRS.reduce(
    (text, [from, to]) => text.replace(from, to),
    name
      .normalize('NFKD')
      .replace(/[\u0300-\u036f]/g, '')
      .toLowerCase(),
  );

const SCRIPTS = [/\p{Script=Latin}/u, /\p{Script=Cyrillic}/u, /\p{Script=Greek}/u];

/** Damerau's distance, bounded: are two names one slip of the fingers apart? */
function oneSlip(a: string, b: string): boolean {
  if (a === b || Math.abs(a.length - b.length) > 1) return false;
  let at = 0;
  while (at < Math.min(a.length, b.length) && a[at] === b[at]) at += 1;
  const swapped = a[at] === b[at + 1] && a[at + 1] === b[at] && a.slice(at + 2) === b.slice(at + 2);
  return swapped || a.slice(at + 1) === b.slice(at + 1) || a.slice(at) === b.slice(at + 1) || a.slice(at + 1) === b.slice(at);
}

/**
 * A warning when a from-domain looks like another name: letters of several alphabets in one word, or nearly one of the writer's own
 * domains (a slip of the fingers, or letters that look alike). Spam filters take such names for a forger's. Null when there is nothing.
 */
export function lookAlikeWarning(domain: string, own: string[]): string | null {
  const shown = domainToUnicode(domain) || domain;
  const mixed = shown.split('.').find((label) => SCRIPTS.filter((script) => script.test(label)).length > 1);
  if (mixed) return `“${mixed}” mixes letters of several alphabets that look alike. Mailboxes take such a name for a forgery.`;
  for (const other of own) {
    if (other === domain) continue;
    const names = [shown, domainToUnicode(other) || other];
    if (skeleton(names[0]!) === skeleton(names[1]!) || oneSlip(names[0]!, names[1]!))
      return `${shown} looks like ${names[1]}, which is yours. Readers and spam filters may take it for a forgery. Was it a slip?`;
  }
  return null;
}
