import type { FormDefinition } from '@/core/forms/definition';
import { confirmationMail, giftLabel, listWelcomeMail, welcomeMail } from '@/core/forms/mails';
import { fill, wordsOf } from '@/core/forms/words';
import { isSigned, signText } from '@/core/keys';
import { CONFIRMATION_DAYS } from '@/core/readers/state';
import type { Context } from '../context';
import type { Db } from '../db/connection';
import { post, type SingleMail } from '../mail/post';
import { mailOwners } from '../newsletters/alerts';
import { mailedToken } from '../secrets';
import { type Voice, voiceOf } from '../senders/senders';

export type ArrivingForm = { id: string; name: string; definition: FormDefinition };
type Newsletter = { id: string; name: string; slug: string; postal_address: string };
type Reader = { id: string; address: string; trial?: boolean };

/**
 * What a form promised for the moment its reader reads: tags, the welcome letter, word to the owners. Where it has no welcome letter, the lists greet that
 * have one. In the caller's transaction.
 */
export async function arrive(
  ctx: Context,
  db: Db,
  form: ArrivingForm,
  newsletter: Newsletter,
  reader: Reader,
  listIds: string[],
): Promise<void> {
  const { next } = form.definition;
  const now = ctx.clock.now();
  if (next.tags.length) {
    await db
      .insertInto('reader_tags')
      .values(next.tags.map((tag) => ({ reader_id: reader.id, newsletter_id: newsletter.id, tag, at: now })))
      .onConflict((c) => c.doNothing())
      .execute();
  }
  if (next.welcome.on) {
    const gift = giftOf(ctx, form, reader.id);
    const { subject, label, ...mail } = welcomeMail(form.definition, newsletter.name);
    await post(ctx, db, {
      newsletterId: newsletter.id,
      readerId: reader.id,
      kind: 'welcome',
      from: await voiceOf(ctx, db, newsletter, next.confirmation.senderId),
      to: reader.address,
      subject,
      notice: {
        ...mail,
        ...(gift ? { link: gift } : {}),
        footer: [
          fill(wordsOf(form.definition.language).because.signedUp, { name: newsletter.name }),
          newsletter.postal_address.replace(/\r?\n/g, ', '),
        ],
      },
      leave: true,
    });
  }
  if (!next.welcome.on) await greet(ctx, db, newsletter, reader, listIds);
  if (next.tellOwners && !reader.trial)
    await mailOwners(
      ctx,
      db,
      newsletter.id,
      newsletter,
      `${reader.address} joined by “${form.name}”`,
      [`${reader.address} reads ${newsletter.name} now.`],
      `/readers/${reader.id}`,
    );
}

/** Greets somebody on lists that they begin to read by their own act, with each list's own welcome letter. In the caller's transaction. */
export async function greet(
  ctx: Context,
  db: Db,
  newsletter: Omit<Newsletter, 'slug'>,
  reader: Reader,
  listIds: string[],
): Promise<void> {
  if (listIds.length === 0) return;
  const lists = await db
    .selectFrom('lists as l')
    .innerJoin('newsletters as n', 'n.id', 'l.newsletter_id')
    .select(['l.public_name', 'l.welcome', 'n.language'])
    .where('l.id', 'in', listIds)
    .where('l.welcome', 'is not', null)
    .orderBy('l.position')
    .execute();
  for (const list of lists) {
    const { subject, ...mail } = listWelcomeMail(list.welcome!, list.public_name, list.language);
    await post(ctx, db, {
      newsletterId: newsletter.id,
      readerId: reader.id,
      kind: 'welcome',
      from: await voiceOf(ctx, db, newsletter),
      to: reader.address,
      subject,
      notice: {
        name: newsletter.name,
        ...mail,
        footer: [
          fill(wordsOf(list.language).because.onList, { name: newsletter.name, label: list.public_name }),
          newsletter.postal_address.replace(/\r?\n/g, ', '),
        ],
      },
      leave: true,
    });
  }
}

const GIFT_DAYS = 30;
/** The link to a form's gift for one reader: signed, and good for 30 days. Null where nothing is promised. */
export function giftOf(ctx: Context, form: ArrivingForm, readerId: string): { label: string; url: string } | null {
  const label = giftLabel(form.definition);
  if (label === null) return null;
  const text = `${form.id}.${readerId}.${Math.floor(ctx.clock.now().getTime() / 86_400_000) + GIFT_DAYS}`;
  return {
    label,
    url: `${ctx.config.linkOrigin}/e/gift/${text}.${signText(ctx.config.keys, 'gift', text)}`,
  };
}

/** Reads a gift link: the form whose gift it is, `expired`, or null for one that is not ours. */
export function readGift(ctx: Context, token: string): { formId: string } | 'expired' | null {
  const [formId = '', readerId = '', day = '', ...mac] = token.split('.');
  if (!isSigned(ctx.config.keys, 'gift', `${formId}.${readerId}.${day}`, mac.join('.'))) return null;
  return Number(day) * 86_400_000 < ctx.clock.now().getTime() ? 'expired' : { formId };
}

export type Asked = {
  form: ArrivingForm;
  newsletter: Newsletter;
  reader: Reader;
  lists: { id: string; public_name: string }[];
  variant: string;
};

/** A confirmation letter in the form's own words and language, and the row that keeps the hash of its link. Both are the caller's to store. */
export function confirmationLetter(
  ctx: Context,
  { form, newsletter, reader, lists, variant }: Asked,
  from: Voice,
  typed: 'in a form' | 'by hand' = 'in a form',
) {
  const now = ctx.clock.now();
  const { token, hash } = mailedToken();
  const row = {
    token_hash: hash,
    newsletter_id: newsletter.id,
    reader_id: reader.id,
    list_ids: lists.map((list) => list.id),
    form_id: form.id,
    variant,
    sent_at: now,
    expires_at: new Date(now.getTime() + CONFIRMATION_DAYS * 86_400_000),
  };
  const { subject, label, ...said } = confirmationMail(
    form.definition,
    newsletter.name,
    lists.map((list) => list.public_name),
    typed === 'in a form',
  );
  const { because } = wordsOf(form.definition.language);
  const mail: SingleMail = {
    newsletterId: newsletter.id,
    readerId: reader.id,
    kind: 'confirmation',
    from,
    to: reader.address,
    subject,
    notice: {
      ...said,
      link: { label, url: `${ctx.config.linkOrigin}/e/confirm/${token}` },
      footer: [
        fill(because[typed === 'in a form' ? 'asked' : 'added'], { name: newsletter.name }),
        newsletter.postal_address.replace(/\r?\n/g, ', '),
      ],
    },
  };
  return { row, mail };
}
