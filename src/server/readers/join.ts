import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import { HONEYPOT, readAnswers, readPageUrl } from '@/core/forms/answers';
import { type FormDefinition, wordingShown } from '@/core/forms/definition';
import { fill, wordsOf } from '@/core/forms/words';
import { classify, readTouch, sourceName, touchOfVisit } from '@/core/growth/attribution';
import { RESEND_MINUTES, transition } from '@/core/readers/state';
import { didYouMean } from '@/core/readers/typos';
import type { Context } from '../context';
import type { Db } from '../db/connection';
import { LookupFailed } from '../dns/resolver';
import { keepAnswers } from '../forms/fields';
import type { PublicForm } from '../forms/forms';
import { countDay, countForm } from '../growth/counts';
import { newId } from '../ids';
import { limitAll, within } from '../limits';
import { isTooSoon } from '../public/stamp';
import { type ArrivingForm, arrive, mailConfirmation } from './arrive';

/** Who asks: as the request says. Kept with the consent. */
export type Visitor = { network: string; agent: string };
const ADDRESS_LIMIT = { most: 6, seconds: 3600 };
const NETWORK_LIMIT = { most: 60, seconds: 600 };
const FORM_LIMIT = { most: 3_000, seconds: 60 };
/** The brake against list bombing: an address gets no more confirmation letters a day, whichever newsletter asks. */
const BRAKE = { most: 3, seconds: 86_400 };

/**
 * A sign-up form sent in. Everything is in one transaction: the reader, where they stand on each list, answers, the consent, the counts
 * and the confirmation letter; when this returns, it is durable. Every address gets the same answer, known or not. Throws "invalid" with
 * a sentence a field, or "too-many".
 */
export async function join(ctx: Context, form: PublicForm, sent: Record<string, string>, visitor: Visitor): Promise<void> {
  const variant = form.test && sent.variant === 'b' ? 'b' : form.test ? 'a' : '';
  const definition = variant === 'b' ? form.test! : form.definition;
  const answers = readAnswers(definition, sent);
  if ('faults' in answers)
    throw new Fault('invalid', Object.values(answers.faults)[0] ?? 'Please look at the form again.', answers.faults);
  // A machine filled in what nobody can see, or was quicker than anybody types: it is thanked like everyone, and nothing is kept.
  if (sent[HONEYPOT] || isTooSoon(ctx, sent.stamp)) return;
  const { address, firstName } = answers;
  const slower = 'This was sent in very often just now. Please try again in a while; nothing was lost.';
  await limitAll(
    ctx,
    [
      { key: `join-form:${form.id}`, ...FORM_LIMIT },
      { key: `join-network:${visitor.network}`, ...NETWORK_LIMIT },
      { key: `join-address:${address.key}`, ...ADDRESS_LIMIT },
    ],
    slower,
  );
  await checkMailDomain(ctx, form.newsletter.id, definition, address.full, address.domain);

  const page = readPageUrl(sent.page);
  const referrer = readPageUrl(sent.referrer);
  const now = ctx.clock.now();
  const { newsletter } = form;
  const visit = touchOfVisit(page ?? '', referrer ?? '', now.toISOString());
  const first = readTouch(parsed(sent.first)) ?? visit;
  const last = readTouch(parsed(sent.last)) ?? visit;
  const chosen =
    answers.lists === null
      ? form.listIds
      : [...new Set([...form.listIds.filter((id) => !definition.listChoice.includes(id)), ...answers.lists])];

  await ctx.db.transaction().execute(async (trx) => {
    const reader = await trx
      .insertInto('readers')
      .values({
        id: newId(),
        newsletter_id: newsletter.id,
        address: address.full,
        address_key: address.key,
        provider: address.domain,
        first_name: firstName,
        source_form_id: form.id,
        source_page: page,
        source_referrer: referrer,
        first_touch: first && JSON.stringify(first),
        last_touch: last && JSON.stringify(last),
        source_class: classify(last),
        source_name: sourceName(last).slice(0, 200),
        source_placement: (sent.placement ?? definition.placement.kind).slice(0, 20),
        source_variant: variant || null,
        source_language: definition.language,
        created_at: now,
      })
      // An update of nothing, so that the row is locked and returned: two posts at once queue up here.
      .onConflict((c) =>
        c
          .columns(['newsletter_id', 'address_key'])
          .doUpdateSet({ first_name: sql`coalesce(excluded.first_name, readers.first_name)` }),
      )
      .returning(['id', sql<boolean>`xmax = 0`.as('fresh')])
      .executeTakeFirstOrThrow();
    await keepAnswers(ctx, trx, newsletter.id, reader.id, answers.fields);

    const lists = await trx
      .selectFrom('lists')
      .select(['id', 'public_name', 'double_opt_in'])
      .where('newsletter_id', '=', newsletter.id)
      .where('id', 'in', chosen)
      .execute();
    // Somebody new stands nowhere yet and was mailed nothing.
    const standing = reader.fresh
      ? []
      : await trx
          .selectFrom('memberships')
          .select(['list_id', 'state'])
          .where('reader_id', '=', reader.id)
          .where('list_id', 'in', chosen)
          .execute();
    const toConfirm: typeof lists = [];
    const moved = { asked: 0, joined: 0 };
    for (const list of lists) {
      const from = standing.find((row) => row.list_id === list.id)?.state ?? null;
      const step = transition(from, 'ask', list.double_opt_in);
      if (step.changed) {
        const membership = { state: step.state, since: now, joined_at: step.state === 'reading' ? now : null };
        await trx
          .insertInto('memberships')
          .values({ reader_id: reader.id, list_id: list.id, newsletter_id: newsletter.id, ...membership })
          .onConflict((c) => c.columns(['reader_id', 'list_id']).doUpdateSet(membership))
          .execute();
        moved[step.state === 'reading' ? 'joined' : 'asked'] += 1;
      }
      if (step.changed || step.sendsConfirmation) {
        await trx
          .insertInto('consents')
          .values({
            newsletter_id: newsletter.id,
            reader_id: reader.id,
            list_id: list.id,
            act: 'ask',
            state: step.state,
            at: now,
            form_id: form.id,
            page,
            referrer,
            wording: wordingShown(definition),
            network: visitor.network,
            agent: visitor.agent.slice(0, 300),
          })
          .execute();
      }
      if (step.sendsConfirmation) toConfirm.push(list);
    }
    const arriving: ArrivingForm = { id: form.id, name: form.name, definition };
    const who = { id: reader.id, address: address.full };
    if (moved.joined) await arrive(ctx, trx, arriving, newsletter, who);
    // A suppressed address too: asking again is its owner's own act, and only their click brings them back.
    if (toConfirm.length && (await mayMail(ctx, trx, reader, address.key))) {
      await mailConfirmation(ctx, {
        db: trx,
        form: arriving,
        newsletter,
        reader: who,
        listIds: toConfirm.map((list) => list.id),
        names: toConfirm.map((list) => list.public_name),
        variant,
      });
    }
    // Counts last: their rows are shared by everybody who signs up at this moment, and stay locked until the commit.
    for (const field of ['asked', 'joined'] as const) if (moved[field]) await countDay(ctx, trx, newsletter, field, moved[field]);
    await countForm(ctx, trx, newsletter, form.id, 'sent_in', variant);
  });
}

/** Not within ten minutes of the last confirmation letter, and not more than three a day to one address from the whole installation. */
async function mayMail(ctx: Context, db: Db, reader: { id: string; fresh: boolean }, addressKey: string): Promise<boolean> {
  const last = reader.fresh
    ? null
    : await db
        .selectFrom('confirmations')
        .select('sent_at')
        .where('reader_id', '=', reader.id)
        .orderBy('sent_at', 'desc')
        .executeTakeFirst();
  if (last && ctx.clock.now().getTime() - last.sent_at.getTime() < RESEND_MINUTES * 60_000) return false;
  return within({ db }, `confirmations:${addressKey}`, BRAKE.most, BRAKE.seconds);
}

/** Domains known to take mail, so that a busy form asks DNS once for each and not for every visitor. */
const takesMail = new Map<string, number>();
const REMEMBER_MS = 600_000;

/** Refuses an address whose domain does not exist or takes no mail, with a better spelling if there is one. No answer from DNS refuses nobody. */
async function checkMailDomain(
  ctx: Context,
  newsletterId: string,
  form: FormDefinition,
  full: string,
  domain: string,
): Promise<void> {
  if ((takesMail.get(domain) ?? 0) > Date.now()) return;
  try {
    if ((await ctx.resolver.mailHosts(domain)).length > 0) {
      if (takesMail.size > 50_000) takesMail.clear();
      takesMail.set(domain, Date.now() + REMEMBER_MS);
      return;
    }
  } catch (error) {
    if (!(error instanceof LookupFailed) || error.code !== 'ENOTFOUND') return;
  }
  const words = wordsOf(form.language);
  const better = didYouMean(full, await usualDomains(ctx, newsletterId));
  const sentence = better ? fill(words.didYouMean, { label: better }) : words.notEmail;
  throw new Fault('invalid', sentence, { email: sentence });
}

/** Domains that several readers of this newsletter have; a rare one would tell a stranger who reads. */
async function usualDomains(ctx: Context, newsletterId: string): Promise<string[]> {
  const rows = await ctx.db
    .selectFrom('readers')
    .select('provider')
    .where('newsletter_id', '=', newsletterId)
    .groupBy('provider')
    .having((eb) => eb.fn.countAll(), '>=', 5)
    .orderBy((eb) => eb.fn.countAll(), 'desc')
    .limit(50)
    .execute();
  return rows.map((row) => row.provider);
}

function parsed(text: string | undefined): unknown {
  if (!text || text.length > 4_000) return null;
  try {
    return JSON.parse(text);
  } catch {
    return null;
  }
}
