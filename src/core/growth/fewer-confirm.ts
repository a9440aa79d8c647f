/** Of those at one provider who signed up, and whose address takes mail: how many, and how many confirmed. */
export type ConfirmedAt = { name: string; asked: number; confirmed: number };
/** So many more there would have confirmed, had they done as people elsewhere did: within this range in nine of ten cases. */
export type FewerConfirm = { name: string; low: number; high: number };

/** Of fewer nothing is said. */
const LEAST = 20;
/** Surer than once in a thousand times by chance, and by more than a little. */
const SURE = 3.1;
const BY_MUCH = 0.85;
/** Ninety per cent of a normal distribution lie within so many standard deviations of its middle. */
const Z = 1.6449;

/**
 * At which providers far fewer people confirm than at all others together: there confirmation mails likely land in junk, since why somebody presses a link has little to
 * do with where their mailbox is.
 */
export function fewerConfirm(all: readonly ConfirmedAt[]): FewerConfirm[] {
  const asked = all.reduce((sum, one) => sum + one.asked, 0);
  const confirmed = all.reduce((sum, one) => sum + one.confirmed, 0);
  return all.flatMap((here) => {
    const elsewhere = { asked: asked - here.asked, confirmed: confirmed - here.confirmed };
    if (here.asked < LEAST || elsewhere.asked < LEAST) return [];
    const [p, q] = [here.confirmed / here.asked, elsewhere.confirmed / elsewhere.asked];
    const both = (here.confirmed + elsewhere.confirmed) / (here.asked + elsewhere.asked);
    const alike = Math.sqrt(both * (1 - both) * (1 / here.asked + 1 / elsewhere.asked));
    if (alike === 0 || (q - p) / alike < SURE || p > BY_MUCH * q) return [];
    const apart = Math.sqrt((p * (1 - p)) / here.asked + (q * (1 - q)) / elsewhere.asked);
    const people = (difference: number) => Math.round(here.asked * Math.min(1 - p, Math.max(0, difference)));
    return [{ name: here.name, low: people(q - p - Z * apart), high: people(q - p + Z * apart) }];
  });
}
