const MOST_OPEN = 200;
/** HTML lets these go unclosed, so many of them may stand open, as far as can be seen without parsing. */
const MOST_UNCLOSED = 1_000;
const MAY_STAY_OPEN = new Set('p li dt dd tr td th thead tbody tfoot option colgroup'.split(' '));
const VOID = new Set('area base br col embed hr img input link meta source track wbr'.split(' '));

/**
 * HTML up to where more elements stand open than any page needs. A parser keeps them all, and looks through them at every end tag, so that some
 * hundred thousand of them would keep it busy for minutes. One pass over the tags' names, without parsing.
 */
export function shallow(html: string): string {
  const tags = /<(\/?)([a-z][a-z0-9-]*)/gi;
  let open = 0;
  let unclosed = 0;
  for (let tag = tags.exec(html); tag; tag = tags.exec(html)) {
    const name = tag[2]!.toLowerCase();
    if (VOID.has(name)) continue;
    const step = tag[1] ? -1 : 1;
    if (MAY_STAY_OPEN.has(name)) unclosed = Math.max(0, unclosed + step);
    else open = Math.max(0, open + step);
    if (open > MOST_OPEN || unclosed > MOST_UNCLOSED) return html.slice(0, tag.index);
  }
  return html;
}
