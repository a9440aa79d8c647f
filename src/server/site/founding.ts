import Joi from 'joi';
import { addressesOf } from '@/core/autosend/discover';
import { asFault } from '@/core/faults';
import { type FormDefinition, startingForm } from '@/core/forms/definition';
import { startingReasonLine } from '@/core/newsletters/reason-line';
import { slugify } from '@/core/newsletters/slug';
import { parseAddress } from '@/core/readers/address';
import { freeMailWarning } from '@/core/senders/free-mail';
import { readSitePage, type SitePage } from '@/core/site/site-page';
import { STARTING_LAYOUT } from '@/core/writing/layout';
import { createRule } from '../autosend/rules';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import { guardedFetch } from '../fetch/guarded';
import { insertForm } from '../forms/forms';
import { newId } from '../ids';
import { createSchema, freeSlug, plainSite } from '../newsletters/newsletters';
import { addDomain } from '../senders/domains';
import { addSender } from '../senders/senders';

/**
 * Makes a newsletter with all it needs to be of use at once: one list, one layout, and the form of its own sign-up page.
 * The slug is made from the name and numbered when it is taken.
 */
export async function createNewsletter(ctx: Context, userId: string, raw: unknown): Promise<Newsletter> {
  const value = check(createSchema, raw);
  const now = ctx.clock.now();
  const slug = await freeSlug(ctx, slugify(value.name) || 'newsletter');
  return ctx.db.transaction().execute(async (trx) => {
    const values = {
      id: newId(),
      slug,
      name: value.name,
      description: value.description,
      postal_address: value.postalAddress,
      reason_line: startingReasonLine(value.name),
      time_zone: value.timeZone,
      language: value.language,
      site: plainSite(value.site),
      colour: '#10282f',
      created_at: now,
    };
    const newsletter = await trx.insertInto('newsletters').values(values).returningAll().executeTakeFirstOrThrow();
    await trx
      .insertInto('members')
      .values({ newsletter_id: newsletter.id, user_id: userId, role: 'owner', created_at: now })
      .execute();
    const listId = newId();
    await trx
      .insertInto('lists')
      .values({ id: listId, newsletter_id: newsletter.id, name: 'Everyone', public_name: value.name, created_at: now })
      .execute();
    await insertForm({
      db: trx,
      newsletterId: newsletter.id,
      name: 'Sign-up page',
      definition: firstForm(value.name, value.language),
      listIds: [listId],
      hosted: true,
      at: now,
    });
    await trx
      .insertInto('layouts')
      .values({
        id: newId(),
        newsletter_id: newsletter.id,
        name: 'Letters',
        layout: JSON.stringify(STARTING_LAYOUT),
        is_default: true,
        updated_at: now,
      })
      .execute();
    return newsletter;
  });
}

/** A newsletter's first forms greet whoever confirms with a welcome letter. */
function firstForm(name: string, language: string): FormDefinition {
  const form = startingForm(name, language);
  return { ...form, next: { ...form.next, welcome: { ...form.next.welcome, on: true } } };
}

const firstHour = Joi.object<{ senderName: string; senderAddress: string }>({
  senderName: Joi.string().trim().max(80).required().label('Letters come from'),
  senderAddress: Joi.string()
    .trim()
    .required()
    .label('Their address')
    .custom((value, helpers) =>
      parseAddress(value) ? value : helpers.message({ custom: 'This does not look like an email address.' }),
    ),
}).unknown();

/**
 * A newsletter with all that one answer can give: its sender, the sender's domain, a form ready to paste after articles, the colour and the feed that
 * its site names. What of the site cannot be read is left for later, and costs nothing. Throws "invalid" with a sentence a field before anything is made.
 */
export async function foundNewsletter(
  ctx: Context,
  person: { id: string; email: string },
  raw: Record<string, unknown>,
): Promise<Newsletter> {
  const { senderName, senderAddress } = check(firstHour, raw);
  const { senderName: _name, senderAddress: _address, ...rest } = raw;
  const made = await createNewsletter(ctx, person.id, rest);
  const address = parseAddress(senderAddress)!;
  // From here on the newsletter stands: what does not work now is left for Today, which shows it as the next step.
  const later = (what: string) => (error: unknown) => {
    ctx.log.info({ reason: asFault(error).sentence }, `${what} is left for later`);
    return null;
  };
  const sender = await addSender(ctx, made, { name: senderName, address: address.full }, person).catch(later('a sender'));
  if (!freeMailWarning(address.domain)) await addDomain(ctx, made, address.domain).catch(later('a domain'));
  const page = made.site ? await readSite(ctx, String(raw.site)) : null;
  const looks = { colour: page?.colour ?? made.colour, description: made.description || (page?.description ?? '') };
  await ctx.db.updateTable('newsletters').set(looks).where('id', '=', made.id).execute();
  const lists = await ctx.db.selectFrom('lists').select('id').where('newsletter_id', '=', made.id).execute();
  const listId = lists[0]!.id;
  const definition = firstForm(made.name, made.language);
  await ctx.db.transaction().execute((db) =>
    insertForm({
      db,
      newsletterId: made.id,
      name: 'After every article',
      definition: { ...definition, placement: { ...definition.placement, kind: 'after-post' } },
      listIds: [listId],
      at: ctx.clock.now(),
    }),
  );
  if (page?.feed && sender)
    await createRule(ctx, made, { feedUrls: [page.feed], senderId: sender.id, listId }).catch(later('a feed'));
  return { ...made, ...looks };
}

const SITE_LIMITS = { timeoutMs: 4_000, bytes: 1_000_000, redirects: 3 };

/** What a site's page says of itself, by https first; null where it cannot be read. */
async function readSite(ctx: Context, typed: string): Promise<SitePage | null> {
  for (const address of addressesOf(typed)) {
    try {
      const { status, bytes, url } = await guardedFetch(address, ctx.config.allowLoopback, { accept: 'text/html' }, SITE_LIMITS);
      if (status === 200) return readSitePage(bytes.toString('utf8'), url);
    } catch (error) {
      ctx.log.info({ reason: asFault(error).sentence }, 'a site could not be read');
    }
  }
  return null;
}
