/** One element on the way up from what was clicked: what a selector can be made of. */
export type Rung = { tag: string; id: string; classes: string[] };
export type Picked = { selector: string; count: number };

/** What a frame says was picked, as far as it is that: a page in a frame can say anything. */
export function readPicked(said: unknown): { picked: Picked[]; suggested: number } | null {
  const { inksetPicked } = (typeof said === 'object' && said !== null ? said : {}) as { inksetPicked?: unknown };
  const { picked, suggested } = (typeof inksetPicked === 'object' && inksetPicked !== null ? inksetPicked : {}) as Record<
    string,
    unknown
  >;
  if (!Array.isArray(picked)) return null;
  const fine = picked
    .filter(
      (one): one is Picked => typeof one?.selector === 'string' && one.selector.length <= 500 && Number.isInteger(one?.count),
    )
    .slice(0, 100)
    .map(({ selector, count }) => ({ selector, count }));
  if (fine.length === 0) return null;
  return {
    picked: fine,
    suggested: Number.isInteger(suggested) ? Math.min(fine.length - 1, Math.max(0, suggested as number)) : 0,
  };
}

/** Names that a machine made up change with the next build of the site; nobody should hang a form on them. */
const isStable = (name: string) => /^[a-z][\w-]{0,39}$/i.test(name) && !/\d{3,}|[a-f0-9]{6,}|__/i.test(name);
/** What says by itself that it holds an article. */
const ARTICLE = /^(article|main)$|(^|[-_])(article|post|entry|content|story|letter)([-_]|$)/i;

/** The plain selectors an element answers to, the most telling first. */
function candidates({ tag, id, classes }: Rung): string[] {
  const own = classes.filter(isStable);
  const telling = own.filter((name) => ARTICLE.test(name));
  return [
    ...(isStable(id) ? [`#${id}`] : []),
    ...(tag === 'article' || tag === 'main' ? [tag] : []),
    ...[...telling, ...own].map((name) => `.${name}`),
    tag,
  ];
}

/**
 * Selectors for what was clicked and everything around it, from the inside out: for each element the one of its plain selectors that fits the
 * fewest elements of the page (`countOf`). `suggested` is the place of the innermost one that holds an article, else of the outermost.
 */
export function pickedSelectors(rungs: Rung[], countOf: (selector: string) => number): { picked: Picked[]; suggested: number } {
  const picked = rungs.map((rung) =>
    candidates(rung)
      .map((selector) => ({ selector, count: countOf(selector) }))
      .reduce((best, one) => (one.count > 0 && (best.count === 0 || one.count < best.count) ? one : best)),
  );
  const holds = rungs.findIndex(({ tag, id, classes }) => [tag, id, ...classes].some((name) => ARTICLE.test(name)));
  return { picked, suggested: holds >= 0 ? holds : Math.max(0, rungs.length - 1) };
}
