import { Fault } from '@/core/faults';
import { wordsOf } from '@/core/forms/words';
import { Batch } from '../batch';
import type { Context } from '../context';
import { type PublicForm, publicForms } from '../forms/forms';
import { countUses, type Use } from '../limits';
import { holdsProof } from '../public/proof';
import { keepWishes } from './keep';
import { MailDomains } from './mail-domain';
import { readWish, type Visitor, type Wish } from './wish';

const ADDRESS_LIMIT = { most: 6, seconds: 3600 };
const NETWORK_LIMIT = { most: 60, seconds: 600 };
const FORM_LIMIT = { most: 3_000, seconds: 60 };
/** Beyond these a form is under attack, and visitors' machines have to show work. Ordinary visitors never meet it. */
const CALM = { form: 600, network: 20 };

const byAddress = (wish: Wish) => `${wish.trialId ?? wish.form.newsletter.id} ${wish.answers.address.key}`;

/**
 * Sign-up forms sent in, many at a time: forms are looked up, uses counted and wishes kept together with those of whoever else comes at
 * this moment (see Batch). One of these a process.
 */
export class SignUps {
  readonly #forms: Batch<string, PublicForm | null>;
  readonly #uses: Batch<Use[], number[]>;
  readonly #kept: Batch<Wish, true>;
  readonly #domains: MailDomains;

  constructor(private readonly ctx: Context) {
    this.#domains = new MailDomains(ctx);
    this.#forms = new Batch((ids) => publicForms(ctx, ids));
    this.#uses = new Batch(async (all) => {
      const numbers = await countUses(ctx, all.flat());
      return all.map((uses) => numbers.splice(0, uses.length));
    });
    // Two wishes of one address are kept one after the other, so that the second sees what the first did.
    this.#kept = new Batch((wishes) => keepWishes(ctx, wishes), { keyOf: byAddress });
  }

  /** A form by its public name, or null. */
  form(publicId: string): Promise<PublicForm | null> {
    return this.#forms.add(publicId);
  }

  /**
   * A sign-up form sent in; when this returns, everything is durable: the reader, where they stand on each list, answers, the consent, the
   * counts and the confirmation letter. Every address gets the same answer, known or not. Throws "invalid" with a sentence a field,
   * "too-many", or "proof" while the form is under attack and nothing was shown for it.
   */
  async join(form: PublicForm, sent: Record<string, string>, visitor: Visitor, trialId: string | null = null): Promise<void> {
    const wish = readWish(this.ctx, form, sent, visitor);
    if (!wish) return;
    const { address } = wish.answers;
    const words = wordsOf(wish.definition.language);
    if (!trialId) {
      const [ofForm, ofNetwork, ofAddress] = (await this.#uses.add([
        { key: `join-form:${form.id}`, seconds: FORM_LIMIT.seconds },
        { key: `join-network:${visitor.network}`, seconds: NETWORK_LIMIT.seconds },
        { key: `join-address:${address.key}`, seconds: ADDRESS_LIMIT.seconds },
      ])) as [number, number, number];
      if (ofForm > FORM_LIMIT.most || ofNetwork > NETWORK_LIMIT.most || ofAddress > ADDRESS_LIMIT.most)
        throw new Fault('too-many', words.tooMany);
      const calm = ofForm <= CALM.form && ofNetwork <= CALM.network;
      if (!calm && !(await holdsProof(this.ctx, form.id, address.key, sent))) throw new Fault('proof', words.busy);
    }
    await this.#domains.check(form.newsletter.id, words, address, sent.sure);
    await this.#kept.add({ ...wish, trialId });
  }
}
