import { createRequire } from 'node:module';
import { Fault } from '@/core/faults';
import type { FormWords } from '@/core/forms/words';
import { fill } from '@/core/forms/words';
import { didYouMean } from '@/core/readers/typos';
import type { Context } from '../context';
import { LookupFailed } from '../dns/resolver';
import { within } from '../limits';
import type { Wish } from './wish';

const REMEMBER_MS = 600_000;
const MOST_KEPT = 50_000;
const LOOKUPS = { most: 60, seconds: 600 };

/** Something known for ten minutes. */
class Remembered<T> {
  readonly #kept = new Map<string, { value: T; until: number }>();
  async get(key: string, find: () => Promise<T | undefined>): Promise<T | undefined> {
    const known = this.#kept.get(key);
    if (known && known.until > Date.now()) return known.value;
    const value = await find();
    if (this.#kept.size > MOST_KEPT) this.#kept.clear();
    if (value !== undefined) this.#kept.set(key, { value, until: Date.now() + REMEMBER_MS });
    return value;
  }
}

let throwaway: Set<string> | null = null;
/** Is this domain one of those that give anybody a mailbox for ten minutes? The list is a package's; read when first asked for. */
export function isThrowaway(domain: string): boolean {
  throwaway ??= new Set(createRequire(import.meta.url)('disposable-email-domains') as string[]);
  const labels = domain.split('.');
  return labels.some((_, n) => n < labels.length - 1 && throwaway!.has(labels.slice(n).join('.')));
}

/**
 * Looks at the domain of an address that was typed. A busy form asks DNS once for each domain and not for every visitor.
 */
export class MailDomains {
  readonly #takesMail = new Remembered<true>();
  readonly #usual = new Remembered<string[]>();
  constructor(private readonly ctx: Context) {}

  /**
   * Throws "too-many" where one network brings very many unknown domains; "invalid", with a better spelling if there is one, for a domain that does not exist or takes no mail; no answer from DNS refuses
   * nobody. A domain that looks mistyped or like a throwaway mailbox throws a hint once: who is `sure` of this very address gets through.
   */
  async check(wish: Wish, words: FormWords, sure: string | undefined): Promise<void> {
    const { domain, full } = wish.answers.address;
    const takesMail = await this.#takesMail.get(domain, async () => {
      // Whoever makes up domains does not make us ask for all of them.
      const key = `mail-domains:${wish.visitor.network}`;
      if (!(await within(this.ctx, key, LOOKUPS.most, LOOKUPS.seconds))) throw new Fault('too-many', words.tooMany);
      return (await this.#refuses(domain)) ? undefined : true;
    });
    if (takesMail && sure === full) return;
    const better = didYouMean(full, await this.#usualDomains(wish.form.newsletter.id));
    const hint = better ? fill(words.didYouMean, { label: better }) : takesMail && isThrowaway(domain) ? words.throwaway : '';
    if (takesMail && !hint) return;
    const sentence = takesMail ? `${hint} ${words.sure}` : hint || words.notEmail;
    throw new Fault('invalid', sentence, { email: sentence }, takesMail ? { sure: full } : {});
  }

  async #refuses(domain: string): Promise<boolean> {
    try {
      return (await this.ctx.resolver.mailHosts(domain)).length === 0;
    } catch (error) {
      return error instanceof LookupFailed && error.code === 'ENOTFOUND';
    }
  }

  /** Domains that several readers of this newsletter have; a rare one would tell a stranger who reads. */
  async #usualDomains(newsletterId: string): Promise<string[]> {
    const usual = await this.#usual.get(newsletterId, async () => {
      const rows = await this.ctx.db
        .selectFrom((eb) =>
          // Of the newest readers: what is usual shows in some thousands, and counting a million would keep a visitor waiting.
          eb
            .selectFrom('readers')
            .select('domain_id')
            .where('newsletter_id', '=', newsletterId)
            .orderBy('created_at', 'desc')
            .orderBy('id', 'desc')
            .limit(5_000)
            .as('some'),
        )
        .innerJoin('mail_domains as d', 'd.id', 'some.domain_id')
        .select('d.name as provider')
        .groupBy('d.name')
        .having((eb) => eb.fn.countAll(), '>=', 5)
        .orderBy((eb) => eb.fn.countAll(), 'desc')
        .limit(50)
        .execute();
      // While there are none, asking again costs nothing.
      return rows.length ? rows.map((row) => row.provider) : undefined;
    });
    return usual ?? [];
  }
}
