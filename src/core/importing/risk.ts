import { counted, percent, plural } from '../growth/figures';

/** What was found in a sample of the rows that would be brought. */
export type RiskSample = {
  size: number;
  /** Addresses of offices, not of people: info@, sales@. */
  roles: number;
  throwaway: number;
  /** Addresses at domains that take no mail, of those whose domain was asked for. */
  dead: number;
  asked: number;
  /** Agreed more than three years ago, of those that say when. */
  old: number;
  dated: number;
  /** The domain that most of them share. */
  top: { domain: string; people: number };
  /** Names made by a machine, which count up: anna1, anna2, anna3. */
  counting: number;
};
/** 'ask': they may only be brought by asking each of them. 'refuse': not at all, as they are. */
export type Risk = { verdict: 'fine' | 'ask' | 'refuse'; reasons: string[] };

const ROLES = new Set(
  'info|admin|administrator|sales|support|contact|office|help|service|billing|accounts|marketing|press|jobs|hr|webmaster|postmaster|hostmaster|abuse|noreply|no-reply|newsletter|team|mail|hello|enquiries|kontakt|vertrieb|buchhaltung|contacto|ventas|vendas|verkoop'.split(
    '|',
  ),
);
/** Is this the address of an office and not of a person (RFC 2142 and custom)? */
export const isRole = (local: string): boolean => ROLES.has(local.toLowerCase().replace(/\+.*$/, ''));

/** With fewer, shares tell nothing. */
const LEAST = 20;

/**
 * Does this look like a list that was bought or scraped? Readers who agreed have living, personal addresses, and not long ago. Every reason is said with
 * its figure.
 */
export function riskOf(sample: RiskSample): Risk {
  const reasons: string[] = [];
  let verdict: Risk['verdict'] = 'fine';
  const mark = (bad: boolean, worse: boolean, sentence: string) => {
    if (!bad && !worse) return;
    reasons.push(sentence);
    if (worse) verdict = 'refuse';
    else if (verdict === 'fine') verdict = 'ask';
  };
  const of = (part: number, whole: number, least = LEAST) => (whole >= least ? part / whole : 0);
  const dead = of(sample.dead, sample.asked);
  mark(
    dead > 0.08,
    dead > 0.3,
    `${percent(sample.dead, sample.asked)} of ${counted(sample.asked, 'address', 'addresses')} looked at are at domains that take no mail.`,
  );
  const throwaway = of(sample.throwaway, sample.size);
  mark(
    throwaway > 0.05,
    throwaway > 0.3,
    `${percent(sample.throwaway, sample.size)} are at domains that give anybody a mailbox for some minutes.`,
  );
  const roles = of(sample.roles, sample.size);
  mark(
    roles > 0.15,
    roles > 0.6,
    `${percent(sample.roles, sample.size)} are ${plural(sample.roles, 'an address of an office', 'addresses of offices')}, as info@ and sales@ are, and not of people.`,
  );
  const old = of(sample.old, sample.dated);
  mark(
    old > 0.5,
    false,
    `${percent(sample.old, sample.dated)} of those who say when agreed more than three years ago. Most will have forgotten it.`,
  );
  const counting = of(sample.counting, sample.size);
  mark(counting > 0.3, false, `${percent(sample.counting, sample.size)} have names that count up, as a program makes them.`);
  // Half of a large list at one domain: a whole company, whose people did not each agree.
  mark(
    sample.size >= 200 && of(sample.top.people, sample.size) > 0.7,
    false,
    `${percent(sample.top.people, sample.size)} are at ${sample.top.domain}.`,
  );
  return { verdict, reasons };
}
