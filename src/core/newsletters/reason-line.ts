/** The reason line a new newsletter starts with: polite, specific, and provable by the consent record. */
export function startingReasonLine(newsletterName: string, site?: string): string {
  const where = site ? ` on ${site}` : '';
  return `You get this because you asked for ${newsletterName}${where} and confirmed it by email.`;
}
