/** When an owner hears of joins or leaves. */
export type AlertWhen = 'off' | 'at once' | 'daily';
export const ALERT_TIMES: AlertWhen[] = ['off', 'at once', 'daily'];
export type SocialLink = { label: string; url: string };
export const MOST_SOCIAL_LINKS = 6;

/** Languages a newsletter can be in: their tags (BCP 47) and their own names. */
export const LANGUAGES: [tag: string, name: string][] = [
  ['en', 'English'],
  ['de', 'Deutsch'],
  ['fr', 'Français'],
  ['es', 'Español'],
  ['pt', 'Português'],
  ['it', 'Italiano'],
  ['nl', 'Nederlands'],
  ['pl', 'Polski'],
  ['sv', 'Svenska'],
  ['ja', '日本語'],
  ['ar', 'العربية'],
  ['he', 'עברית'],
];

/** Social links typed one a line, as "Name https://address"; null with the line that cannot be read. */
export function readSocialLinks(text: string): { links: SocialLink[] } | { fault: string } {
  const links: SocialLink[] = [];
  for (const line of text
    .split('\n')
    .map((part) => part.trim())
    .filter(Boolean)) {
    const match = /^(.*?)\s*(https?:\/\/\S+)$/.exec(line);
    if (!match || !URL.canParse(match[2]!))
      return { fault: `“${line.slice(0, 60)}” has no address. Write a name and an https address on each line.` };
    const label = match[1]!.replace(/[:,]$/, '').trim() || new URL(match[2]!).host;
    links.push({ label: label.slice(0, 40), url: match[2]!.slice(0, 300) });
  }
  return links.length > MOST_SOCIAL_LINKS ? { fault: `At most ${MOST_SOCIAL_LINKS} links.` } : { links };
}
export const writeSocialLinks = (links: SocialLink[]) => links.map((link) => `${link.label} ${link.url}`).join('\n');

const luminance = (hex: string) => {
  const part = (at: number) => {
    const value = Number.parseInt(hex.slice(at, at + 2), 16) / 255;
    return value <= 0.04045 ? value / 12.92 : ((value + 0.055) / 1.055) ** 2.4;
  };
  return 0.2126 * part(1) + 0.7152 * part(3) + 0.0722 * part(5);
};
/** The contrast of two colours (#rrggbb), from 1 to 21 (WCAG 2.2 section 1.4.3). */
export function contrast(a: string, b: string): number {
  const [light, dark] = [luminance(a), luminance(b)].sort((x, y) => y - x) as [number, number];
  return (light + 0.05) / (dark + 0.05);
}
