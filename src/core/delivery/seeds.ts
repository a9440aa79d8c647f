/* Where letters land, as their writer sees it in mailboxes of their own. */

export const PLACES = {
  inbox: 'In the inbox',
  aside: 'In a tab or folder beside it',
  junk: 'In junk',
  nowhere: 'Nowhere',
} as const;
export type Place = keyof typeof PLACES;
/** The same in a word or two. */
export const PLACES_SHORT: Record<Place, string> = { inbox: 'inbox', aside: 'beside it', junk: 'junk', nowhere: 'not found' };
export const isPlace = (text: unknown): text is Place => typeof text === 'string' && Object.hasOwn(PLACES, text);

export const MOST_BOXES = 12;

/** What became of a copy's mail, and where its owner found it. */
export type Landed = { address: string; mail: 'under way' | 'delivered' | 'not taken'; place: Place | null };

/** What is known of where a test landed, in a sentence. */
export function landedWords(copies: readonly Omit<Landed, 'address'>[]): string {
  const of = (place: Place) => copies.filter((one) => one.place === place).length;
  const refused = copies.filter(({ mail, place }) => mail === 'not taken' && place === null).length;
  const open = copies.filter(({ mail, place }) => mail !== 'not taken' && place === null).length;
  if (copies.length === 0) return 'It went to no box.';
  if (open === copies.length) return 'Look into each box and say where it lay.';
  const parts = [
    of('inbox') ? `${of('inbox')} in the inbox` : '',
    of('aside') ? `${of('aside')} beside it` : '',
    of('junk') ? `${of('junk')} in junk` : '',
    of('nowhere') ? `${of('nowhere')} not found` : '',
    refused ? `${refused} not taken` : '',
    open ? `${open} not said yet` : '',
  ].filter(Boolean);
  return `Of ${copies.length}: ${parts.join(', ')}.`;
}

/** What a box told holds for as long as a provider's standing is looked at. */
const HOLDS_MS = 28 * 86_400_000;

/** Where copies of the latest test lay at each provider, the worst of several boxes; only of those of which it was said, and lately. */
export function placesNow(
  test: { at: Date; copies: readonly Omit<Landed, 'mail'>[] } | undefined,
  now: Date,
): Map<string, Place> {
  const order = Object.keys(PLACES) as Place[];
  const found = new Map<string, Place>();
  if (!test || now.getTime() - test.at.getTime() > HOLDS_MS) return found;
  for (const { address, place } of test.copies) {
    const provider = address.slice(address.lastIndexOf('@') + 1);
    if (place && order.indexOf(place) >= order.indexOf(found.get(provider) ?? 'inbox')) found.set(provider, place);
  }
  return found;
}
