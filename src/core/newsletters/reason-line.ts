/** The reason line a new newsletter starts with: polite, specific, and provable by the consent record. */
export function startingReasonLine(newsletterName: string, site?: string): string {
  const where = site ? ` on ${site}` : '';
  return `You get this because you asked for ${newsletterName}${where} and confirmed it by email.`;
}

export type ReasonCheck = { label: string; holds: boolean; hint: string };

/** Is a reason line specific? It has to name the newsletter and where people signed up, since it is read by people who forgot. */
export function checkReasonLine(line: string, of: { name: string; site: string }): ReasonCheck[] {
  const text = line.toLowerCase();
  const site = of.site
    .toLowerCase()
    .replace(/^https?:\/\//, '')
    .replace(/\/.*$/, '')
    .replace(/^www\./, '');
  return [
    {
      label: 'Names the newsletter',
      holds: text.includes(of.name.toLowerCase()),
      hint: `Put “${of.name}” in, as people know it from the form.`,
    },
    {
      label: 'Says where they signed up',
      holds: site ? text.includes(site) : /\b[a-z0-9-]+\.[a-z]{2,}\b|\bsite\b|\bpage\b|\bblog\b/.test(text),
      hint: site ? `Put ${site} in.` : 'Name the site or page, for example lanternfish.example.',
    },
    {
      label: 'Says that they asked for it',
      holds: /\b(asked|signed up|subscribed|confirmed|chose)\b/.test(text),
      hint: 'Say what they did: asked, signed up, confirmed.',
    },
    { label: 'Is short enough to be read', holds: line.length <= 180, hint: 'Under 180 characters.' },
  ];
}
