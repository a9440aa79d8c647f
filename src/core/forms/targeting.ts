/*
 * On which pages and days a form stands. Without any import, because the script on other people's pages carries it along.
 */
export type Targeting = { show: string[]; hide: string[]; from: string; to: string };

/** Does a path fit a pattern? `*` stands for any run of characters, everything else for itself; a final slash does not count. */
export function fits(path: string, pattern: string): boolean {
  const clean = (text: string) => (text.length > 1 ? text.replace(/\/+$/, '') : text) || '/';
  const wanted = clean(pattern.startsWith('/') || pattern.startsWith('*') ? pattern : `/${pattern}`);
  // Matched piece by piece, not by a regular expression: a hostile pattern must not cost more than its length.
  const pieces = wanted.split('*');
  const text = clean(path);
  if (pieces.length === 1) return text === wanted;
  if (!text.startsWith(pieces[0]!)) return false;
  let at = pieces[0]!.length;
  for (const piece of pieces.slice(1, -1)) {
    const found = text.indexOf(piece, at);
    if (found === -1) return false;
    at = found + piece.length;
  }
  const last = pieces.at(-1)!;
  return text.length - last.length >= at && text.endsWith(last);
}

/** May the form stand on this page on this day (`YYYY-MM-DD`, asked for only where a schedule is set)? Hiding beats showing. */
export function standsOn(targeting: Targeting, path: string, today: () => string): boolean {
  const { from, to } = targeting;
  if (from || to) {
    const day = today();
    if ((from && day < from) || (to && day > to)) return false;
  }
  if (targeting.hide.some((pattern) => fits(path, pattern))) return false;
  return targeting.show.length === 0 || targeting.show.some((pattern) => fits(path, pattern));
}
