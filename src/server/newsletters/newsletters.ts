import Joi from 'joi';
import { Fault } from '@/core/faults';
import { ALERT_TIMES, type AlertWhen, LANGUAGES, readSocialLinks } from '@/core/newsletters/identity';
import { may, type Need, type Role } from '@/core/newsletters/roles';
import { CALL_BACK } from '@/core/sending/departure';
import { isZone } from '@/core/zones';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';

type NewsletterInput = { name: string; description: string; postalAddress: string; timeZone: string };
type FoundingInput = NewsletterInput & { language: string; site: string };
type NewsletterSettings = NewsletterInput & {
  reasonLine: string;
  colour: string;
  accent: string;
  language: string;
  site: string;
  socialLinks: string;
  alertJoins: AlertWhen;
  alertLeaves: AlertWhen;
  weekly: 'yes' | 'no';
  unusual: 'yes' | 'no';
  countOpens: 'yes' | 'no';
  countClicks: 'yes' | 'no';
  callBackSeconds: number;
};

const zone = Joi.string()
  .required()
  .label('Time zone')
  .custom((value, helpers) => (isZone(value) ? value : helpers.message({ custom: '“Time zone” is none that we know.' })));

const input = {
  name: Joi.string().trim().max(80).required().label('Name'),
  description: Joi.string().trim().max(200).allow('').default('').label('Description'),
  postalAddress: Joi.string().trim().min(8).max(300).required().label('Postal address'),
  timeZone: zone,
};
/** A site's address as it is kept: without its scheme and final slash. */
export const plainSite = (site: string) => site.replace(/^https?:\/\//i, '').replace(/\/$/, '');
const language = Joi.string()
  .valid(...LANGUAGES.map(([tag]) => tag))
  .default('en')
  .label('Language');
const site = Joi.string().trim().max(200).allow('').default('').label('Your site');
export const createSchema = Joi.object<FoundingInput>({ ...input, language, site });
const colour = (label: string) =>
  Joi.string()
    .pattern(/^#[0-9a-f]{6}$/i)
    .required()
    .label(label)
    .messages({ 'string.pattern.base': `“${label}” is written like #17645c.` });
const when = (label: string) =>
  Joi.string()
    .valid(...ALERT_TIMES)
    .default('off')
    .label(label);
const settingsSchema = Joi.object<NewsletterSettings>({
  ...input,
  reasonLine: Joi.string().trim().min(20).max(300).required().label('Reason line'),
  colour: colour('Colour'),
  accent: colour('Accent'),
  language,
  site,
  socialLinks: Joi.string()
    .allow('')
    .default('')
    .label('Links')
    .custom((value, helpers) => {
      const read = readSocialLinks(value);
      return 'fault' in read ? helpers.message({ custom: read.fault }) : value;
    }),
  alertJoins: when('When somebody joins'),
  alertLeaves: when('When somebody leaves'),
  weekly: Joi.string().valid('yes', 'no').default('yes').label('The week on Monday'),
  unusual: Joi.string().valid('yes', 'no').default('yes').label('What is out of the usual'),
  countOpens: Joi.string().valid('yes', 'no').default('yes').label('Openings'),
  countClicks: Joi.string().valid('yes', 'no').default('yes').label('Clicks'),
  callBackSeconds: Joi.number().integer().min(0).max(CALL_BACK.most).default(CALL_BACK.usual).label('Calling back'),
});

const encryptionSchema = Joi.object<{ encryption: 'offered' | 'always' }>({
  encryption: Joi.string().valid('offered', 'always').required().label('Encryption'),
});

/** Changes what readers see of a newsletter. */
export async function changeNewsletter(ctx: Context, newsletter: Newsletter, raw: unknown): Promise<void> {
  const value = check(settingsSchema, raw);
  const read = readSocialLinks(value.socialLinks);
  const links = 'links' in read ? read.links : [];
  await ctx.db
    .updateTable('newsletters')
    .set({
      name: value.name,
      description: value.description,
      postal_address: value.postalAddress,
      time_zone: value.timeZone,
      reason_line: value.reasonLine,
      colour: value.colour.toLowerCase(),
      accent: value.accent.toLowerCase(),
      language: value.language,
      site: plainSite(value.site),
      social_links: JSON.stringify(links),
      alert_joins: value.alertJoins,
      alert_leaves: value.alertLeaves,
      weekly_summary: value.weekly === 'yes',
      tell_unusual: value.unusual === 'yes',
      count_opens: value.countOpens === 'yes',
      count_clicks: value.countClicks === 'yes',
      call_back_seconds: value.callBackSeconds,
    })
    .where('id', '=', newsletter.id)
    .execute();
}

/** Sets whether mail to readers may go over a connection that is not encrypted, where a mail host offers no other. */
export async function setEncryption(ctx: Context, newsletter: Newsletter, raw: unknown): Promise<void> {
  const { encryption } = check(encryptionSchema, raw);
  await ctx.db
    .updateTable('newsletters')
    .set({ encrypted_only: encryption === 'always' })
    .where('id', '=', newsletter.id)
    .execute();
}

/** The newsletters a person may open, oldest first, with what they may do there. */
export function newslettersOf(ctx: Context, userId: string): Promise<(Newsletter & { role: Role })[]> {
  return ctx.db
    .selectFrom('newsletters')
    .innerJoin('members', 'members.newsletter_id', 'newsletters.id')
    .where('members.user_id', '=', userId)
    .selectAll('newsletters')
    .select('members.role')
    .orderBy('newsletters.created_at')
    .execute();
}

/** Newsletters that live: those that are here whole, and are not about to be deleted. */
export const livingNewsletters = (db: Db) =>
  db
    .selectFrom('newsletters')
    .select('id')
    .where('coming', '=', false)
    .where('removed_at', 'is', null)
    .where('closing_at', 'is', null);

/** One newsletter for a member of it. To anyone else it does not exist; a member who may not do what is needed is told so. */
export async function openNewsletter(
  ctx: Context,
  userId: string,
  slug: string,
  need: Need = 'look',
): Promise<Newsletter & { role: Role }> {
  const found = (await newslettersOf(ctx, userId)).find((newsletter) => newsletter.slug === slug);
  if (!found) throw new Fault('not-found', 'There is no newsletter of yours at this address.');
  if (!may(found.role, need))
    throw new Fault(
      'forbidden',
      `You are here as ${found.role}, and ${need === 'own' ? 'an owner' : 'an editor or owner'} has to do this. Nothing was changed.`,
    );
  return found;
}

/** A newsletter's public side by its slug, or null. */
export async function publicNewsletter(ctx: Context, slug: string): Promise<Newsletter | null> {
  return (await ctx.db.selectFrom('newsletters').selectAll().where('slug', '=', slug).executeTakeFirst()) ?? null;
}

/** Refuses what would have a newsletter send something that is to be deleted. Throws "expired", with what readers are to know. */
export function refuseClosing(newsletter: { name: string; closing_at: Date | null }): void {
  if (newsletter.closing_at)
    throw new Fault(
      'expired',
      `${newsletter.name} is closing: nothing of it is sent any more, and all that it keeps of anybody is deleted within a week.`,
    );
}

/** A slug that nobody has, as near to the wanted one as can be. */
export async function freeSlug(ctx: Context, wanted: string): Promise<string> {
  const taken = await ctx.db.selectFrom('newsletters').select('slug').where('slug', 'like', `${wanted}%`).execute();
  const slugs = new Set(taken.map((row) => row.slug));
  for (let n = 1; ; n += 1) {
    const slug = n === 1 ? wanted : `${wanted}-${n}`;
    if (!slugs.has(slug)) return slug;
  }
}
