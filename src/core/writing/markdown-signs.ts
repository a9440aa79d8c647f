/** Does a plain text look like Markdown: headings, lists, links, quotes or emphasis as it writes them? One sign alone may be chance. */
export function looksLikeMarkdown(text: string): boolean {
  const signs = [
    /^[-*+] \S.*\n[-*+] \S/m,
    /^\d+\. \S.*\n\d+\. \S/m,
    /\[[^\]\n]+\]\((?:https?:|mailto:)[^)\s]+\)/,
    /^> \S/m,
    /\*\*\S[^*\n]*\*\*/,
    /^```/m,
    /^\|.*\|\s*\n\|[\s:|-]+\|/m,
  ];
  const beginning = text.slice(0, 50_000);
  if (/^#{1,6} \S/m.test(beginning) || /^---\r?\n[\s\S]*?\n---/.test(beginning)) return true;
  return signs.filter((sign) => sign.test(beginning)).length > 1;
}
