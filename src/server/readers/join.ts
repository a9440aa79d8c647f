import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import { HONEYPOT, readAnswers, readPageUrl } from '@/core/forms/answers';
import { wordingShown } from '@/core/forms/definition';
import { CONFIRMATION_DAYS, RESEND_MINUTES, transition } from '@/core/readers/state';
import { renderNotice } from '@/core/writing/notice';
import type { Context } from '../context';
import type { Db } from '../db/connection';
import type { PublicForm } from '../forms/forms';
import { countDay, countForm } from '../growth/counts';
import { newId } from '../ids';
import { limit } from '../limits';
import { post } from '../mail/outbox';
import { mailedToken } from '../secrets';
import { voiceOf } from '../senders/senders';

/** Who asks: as the request says. Kept with the consent. */
export type Visitor = { network: string; agent: string };
const ADDRESS_LIMIT = { most: 6, seconds: 3600 };
const NETWORK_LIMIT = { most: 60, seconds: 600 };

/**
 * A sign-up form sent in. Everything is in one transaction: the reader, where they stand on each list, the consent, the
 * counts and the confirmation letter; when this returns, it is durable. Every address gets the same answer, known or not.
 * Throws "invalid" with a sentence a field, or "too-many".
 */
export async function join(ctx: Context, form: PublicForm, sent: Record<string, string>, visitor: Visitor): Promise<void> {
  const answers = readAnswers(form.definition, sent);
  if ('fields' in answers)
    throw new Fault('invalid', Object.values(answers.fields)[0] ?? 'Please look at the form again.', answers.fields);
  // A machine filled in what nobody can see: it is thanked like everyone, and nothing is kept.
  if (sent[HONEYPOT]) return;
  const { address, firstName } = answers;
  const slower = 'This was sent in very often just now. Please try again in a while; nothing was lost.';
  await limit(ctx, `join-network:${visitor.network}`, NETWORK_LIMIT.most, NETWORK_LIMIT.seconds, slower);
  await limit(ctx, `join-address:${address.key}`, ADDRESS_LIMIT.most, ADDRESS_LIMIT.seconds, slower);
  const page = readPageUrl(sent.page);
  const referrer = readPageUrl(sent.referrer);
  const now = ctx.clock.now();
  const { newsletter } = form;

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
        created_at: now,
      })
      // An update of nothing, so that the row is locked and returned: two posts at once queue up here.
      .onConflict((c) =>
        c
          .columns(['newsletter_id', 'address_key'])
          .doUpdateSet({ first_name: sql`coalesce(excluded.first_name, readers.first_name)` }),
      )
      .returning(['id', 'address_state'])
      .executeTakeFirstOrThrow();
    await countForm(ctx, trx, newsletter, form.id, 'sent_in');

    const lists = await trx
      .selectFrom('lists')
      .select(['id', 'public_name', 'double_opt_in'])
      .where('id', 'in', form.listIds)
      .execute();
    const standing = await trx
      .selectFrom('memberships')
      .select(['list_id', 'state'])
      .where('reader_id', '=', reader.id)
      .where('list_id', 'in', form.listIds)
      .execute();
    const toConfirm: string[] = [];
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
        await countDay(ctx, trx, newsletter, step.state === 'reading' ? 'joined' : 'asked');
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
            wording: wordingShown(form.definition),
            network: visitor.network,
            agent: visitor.agent.slice(0, 300),
          })
          .execute();
      }
      if (step.sendsConfirmation) toConfirm.push(list.id);
    }
    // A suppressed address too: asking again is its owner's own act, and only their click brings them back.
    if (toConfirm.length) {
      const names = lists.filter((list) => toConfirm.includes(list.id)).map((list) => list.public_name);
      await mailConfirmation(ctx, trx, form, { id: reader.id, address: address.full }, toConfirm, names);
    }
  });
}

async function mailConfirmation(
  ctx: Context,
  db: Db,
  form: PublicForm,
  reader: { id: string; address: string },
  listIds: string[],
  names: string[],
): Promise<void> {
  const now = ctx.clock.now();
  const last = await db
    .selectFrom('confirmations')
    .select('sent_at')
    .where('reader_id', '=', reader.id)
    .orderBy('sent_at', 'desc')
    .executeTakeFirst();
  if (last && now.getTime() - last.sent_at.getTime() < RESEND_MINUTES * 60_000) return;
  const { token, hash } = mailedToken();
  await db
    .insertInto('confirmations')
    .values({
      token_hash: hash,
      newsletter_id: form.newsletter.id,
      reader_id: reader.id,
      list_ids: listIds,
      form_id: form.id,
      sent_at: now,
      expires_at: new Date(now.getTime() + CONFIRMATION_DAYS * 86_400_000),
    })
    .execute();
  const { newsletter } = form;
  const notice = renderNotice({
    name: newsletter.name,
    colour: '#17645c',
    heading: 'One click, and you are on the list',
    paragraphs: [
      `You asked for ${names.join(' and ')}. Click below to say that this address is yours; until then nothing else will come.`,
    ],
    link: { label: 'Yes, send me the letters', url: `${ctx.config.linkOrigin}/e/confirm/${token}` },
    footer: [
      `You get this because this address was typed into a sign-up form of ${newsletter.name}. If it was not you, do nothing: no letter will follow.`,
      newsletter.postal_address.replace(/\r?\n/g, ', '),
    ],
  });
  await post(ctx, db, {
    newsletterId: newsletter.id,
    kind: 'confirmation',
    from: await voiceOf(ctx, db, newsletter),
    to: reader.address,
    subject: `Please confirm: ${newsletter.name}`,
    ...notice,
  });
}
