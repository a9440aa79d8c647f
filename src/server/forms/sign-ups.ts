import { Fault } from '@/core/faults';
import { wordsOf } from '@/core/forms/words';
import { Batch } from '../batch';
import type { Context, Newsletter } from '../context';
import type { Visitor } from '../readers/visitor';
import { type PublicForm, publicForm, publicForms } from './forms';
import { type Held, hold, taken } from './held';
import { type Asking, keepWishes, type Outcome } from './keep';
import { MailDomains } from './mail-domain';
import { holdsProof } from './proof';
import { readWish, type Wish } from './wish';

const byAddress = ({ wish }: Asking) => `${wish.trialId ?? wish.form.newsletter.id} ${wish.answers.address.key}`;
const MOST_KEPT = 2_000;
/** Two, so that one batch is made ready while PostgreSQL works on the other. */
const LANES = 2;

/**
 * Sign-up forms sent in, many at a time: what one asks of the database is asked together with that of whoever else comes at this moment (see
 * Batch). One of these a process.
 */
export class SignUps {
  readonly #found: Batch<string, PublicForm | null>;
  readonly #kept: Batch<Asking, Outcome>;
  readonly #held: Batch<Held, null>;
  readonly #domains: MailDomains;
  /** Forms as they were last seen. Nothing is kept for one whose mark has changed, so an old one here does no harm. */
  readonly #known = new Map<string, PublicForm>();

  constructor(private readonly ctx: Context) {
    this.#domains = new MailDomains(ctx);
    this.#found = new Batch((ids) => publicForms(ctx, ids));
    this.#held = new Batch((held) => hold(ctx, held), { keyOf: ({ wish }) => `${wish.form.id} ${wish.answers.address.key}` });
    // Two wishes of one address are kept one after the other, so that the second sees what the first did.
    this.#kept = new Batch((asking) => keepWishes(ctx, asking), { keyOf: byAddress, lanes: LANES });
  }

  /** A form by its public name as it is now, or null. */
  async form(publicId: string): Promise<PublicForm | null> {
    const form = await this.#found.add(publicId);
    if (this.#known.size > MOST_KEPT) this.#known.clear();
    if (form) this.#known.set(publicId, form);
    return form;
  }

  /** A form as it was a while ago, where it is known, for `join`, which looks again by itself. */
  async lately(publicId: string): Promise<PublicForm | null> {
    const known = this.#known.get(publicId);
    // One that was put away may be back.
    return known && !known.archivedAt ? known : this.form(publicId);
  }

  /**
   * A sign-up form sent in; when this returns, everything is durable: the reader, where they stand on each list, answers, the consent, the
   * counts and the confirmation letter. Every address gets the same answer, known or not. Returns the form as it was when this was kept.
   * Throws "invalid" with a sentence a field, "too-many", or "proof" where this looks like a machine's or the form is under attack and nothing was
   * shown for it; those two are held back for the writer to look at.
   */
  async join(known: PublicForm, sent: Record<string, string>, visitor: Visitor, by: By = {}): Promise<PublicForm> {
    let form = known;
    for (;;) {
      const outcome = await this.#tryJoin(form, sent, visitor, by).catch((error: unknown) => error);
      if (outcome === 'kept') return form;
      // What an old form refuses, or what was asked of one, is asked of the form as it is now.
      const now = await this.form(form.publicId);
      if (!now) throw new Fault('not-found', 'This form is no longer there.');
      if (now.mark === form.mark && outcome !== 'stale') throw outcome;
      if (now.archivedAt) throw closed(now);
      form = now;
    }
  }

  async #tryJoin(
    form: PublicForm,
    sent: Record<string, string>,
    visitor: Visitor,
    { trialId = null, letIn = false }: By,
  ): Promise<'kept' | 'stale'> {
    const wish: Wish = { ...readWish(this.ctx, form, sent, visitor), trialId, letIn };
    const { address } = wish.answers;
    const words = wordsOf(wish.definition.language);
    const proven = letIn || (sent.proof || sent.ticket ? await holdsProof(this.ctx, form.id, address.key, sent) : false);
    await this.#domains.check(wish, words, sent.sure);
    const outcome = await this.#kept.add({ wish, proven });
    if (outcome === 'kept' || outcome === 'stale') return outcome;
    await this.#holdBack(wish, sent, outcome === 'too-many' ? 'often' : (wish.doubt ?? 'busy'));
    if (outcome === 'too-many') throw new Fault('too-many', words.tooMany);
    throw new Fault('proof', wish.doubt ? words.unsure : words.busy);
  }

  /** For the writer to look at. Should that fail, the visitor is answered all the same. */
  async #holdBack(wish: Wish, sent: Record<string, string>, reason: Held['reason']): Promise<void> {
    if (wish.letIn) return;
    await this.#held.add({ wish, sent, reason }).catch((error: Error) => {
      this.ctx.log.warn({ reason: error.message }, 'a sign-up that was held back could not be noted');
    });
  }
}

/** On whose behalf a form is sent in, where it is not a visitor's. */
type By = { trialId?: string | null; letIn?: boolean };

/**
 * Sends the confirmation letter to somebody whose sign-up was held back, as if it had come now: only their own click puts them on a list, whatever
 * that asks for. Throws "not-found" where it is no longer held, and what the form says where it refuses.
 */
export async function letIn(ctx: Context, newsletter: Newsletter, formId: string, key: string): Promise<void> {
  const { publicId, sent, visitor } = await taken(ctx, newsletter, formId, key);
  const form = await publicForm(ctx, publicId);
  if (!form || form.archivedAt) throw new Fault('conflict', 'This form is put away. Use it again, then let them in.');
  await new SignUps(ctx).join(form, { ...sent, sure: sent.email ?? '' }, visitor, { letIn: true });
}

/** What is said of a form that was put away. */
export const closed = (form: PublicForm): Fault =>
  new Fault('expired', `${form.newsletter.name} has closed this form. Nothing was sent.`);
