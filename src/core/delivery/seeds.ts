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

/** What is known of where a test landed, in a sentence. */
export function landedWords(copies: readonly { place: Place | null }[]): string {
  const of = (place: Place) => copies.filter((one) => one.place === place).length;
  const said = copies.filter(({ place }) => place !== null).length;
  if (copies.length === 0) return 'It went to no box.';
  if (said === 0) return 'Look into each box and say where it lay.';
  const parts = [
    of('inbox') ? `${of('inbox')} in the inbox` : '',
    of('aside') ? `${of('aside')} beside it` : '',
    of('junk') ? `${of('junk')} in junk` : '',
    of('nowhere') ? `${of('nowhere')} not found` : '',
    said < copies.length ? `${copies.length - said} not said yet` : '',
  ].filter(Boolean);
  return `Of ${copies.length}: ${parts.join(', ')}.`;
}

/** Where copies lay at each provider, the worst of several boxes; only of those of which it was said. */
export function placeByProvider(copies: readonly { address: string; place: Place | null }[]): Map<string, Place> {
  const order: Place[] = ['inbox', 'aside', 'junk', 'nowhere'];
  const found = new Map<string, Place>();
  for (const { address, place } of copies) {
    const provider = address.slice(address.lastIndexOf('@') + 1);
    if (place && order.indexOf(place) >= order.indexOf(found.get(provider) ?? 'inbox')) found.set(provider, place);
  }
  return found;
}
