/** Slips of the finger in the last part of an address. General endings only; no provider has to be named. */
const ENDINGS: [RegExp, string][] = [
  [/\.(con|cmo|ocm|comm|vom|xom|cim)$/i, '.com'],
  [/\.(ogr|orgg|prg)$/i, '.org'],
  [/\.(nte|nett|met)$/i, '.net'],
  [/\.(exmaple|exampel|examle|exampl)$/i, '.example'],
  [/,/g, '.'],
  [/\.\.+/g, '.'],
];

/**
 * A better spelling of an address with a slip in its domain, or null: a usual ending mistyped, or a domain one letter away from one that
 * many readers of the newsletter have.
 */
export function didYouMean(address: string, usual: string[]): string | null {
  const at = address.lastIndexOf('@');
  if (at < 1) return null;
  const domain = address.slice(at + 1).toLowerCase();
  const mended = ENDINGS.reduce((text, [from, to]) => text.replace(from, to), domain);
  if (mended !== domain) return `${address.slice(0, at)}@${mended}`;
  if (usual.includes(domain)) return null;
  const near = usual.find((known) => oneLetterApart(known, domain));
  return near ? `${address.slice(0, at)}@${near}` : null;
}

function oneLetterApart(a: string, b: string): boolean {
  if (a === b || Math.abs(a.length - b.length) > 1 || a.length < 5) return false;
  let at = 0;
  while (at < Math.min(a.length, b.length) && a[at] === b[at]) at += 1;
  const rest = (text: string, from: number) => text.slice(from);
  const swapped = a[at] === b[at + 1] && a[at + 1] === b[at] && rest(a, at + 2) === rest(b, at + 2);
  return swapped || rest(a, at + 1) === rest(b, at + 1) || rest(a, at) === rest(b, at + 1) || rest(a, at + 1) === rest(b, at);
}
