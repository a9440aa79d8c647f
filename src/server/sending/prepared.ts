import type { KeyRing } from '@/core/keys';
import { signText } from '@/core/keys';
import { LINKS_HOST, returnPathDomain } from '@/core/senders/records';
import { type DkimKey, signatureFields } from '@/core/sending/dkim';
import { compileMime, fillMime, headerBlock, type MimeTemplate } from '@/core/sending/mime';
import { type DeliveryRef, deliveryToken, leaveToken, messageName } from '@/core/sending/token';
import { lineTemplate } from '@/core/writing/line';
import { SLOT } from '@/core/writing/slots';
import type { Context } from '../context';
import { signingKeys } from '../mail/signing';
import type { Envelope } from '../mail/smtp';

/** A letter made ready once per process: MIME compiled for each of its versions, key opened, links signed. */
export type Prepared = {
  templates: MimeTemplate[];
  /** The same as text alone, made once somebody wants it so. */
  textAlone: (variant: number) => MimeTemplate;
  domain: string;
  keys: DkimKey[];
  links: string[];
  linkOrigin: string;
  ring: KeyRing;
};
export type Recipient = DeliveryToken & {
  readerId: string;
  address: string;
  variant: number;
  /** Do they want the text alone? */
  textAlone?: boolean;
  chips: Record<string, string> | null;
};
type DeliveryToken = { id: string; sentOn: string };

/** Where the links of a letter point: the writer's own link host once its record is right, else the installation's. */
export function linkOriginOf(
  ctx: Pick<Context, 'config'>,
  domain: { domain: string; judgements: { purpose: string; verdict: string }[] },
): string {
  const own = domain.judgements.some((j) => j.purpose === 'links' && j.verdict === 'right');
  return own && ctx.config.linkHosts ? `https://${LINKS_HOST}.${domain.domain}` : ctx.config.linkOrigin;
}

/** Loads a letter that is being sent and makes it ready. Throws if its domain or key is gone. */
export async function prepare(ctx: Context, letterId: string): Promise<Prepared> {
  const letter = await ctx.db
    .selectFrom('letters as l')
    .innerJoin('domains as d', 'd.id', 'l.domain_id')
    .innerJoin('newsletters as n', 'n.id', 'l.newsletter_id')
    .select(['l.html', 'l.text', 'l.subject', 'l.kind', 'l.from_name', 'l.from_address', 'l.reply_to', 'l.started_at'])
    .select(['n.id as newsletter_id', 'n.name', 'n.slug', 'd.id as domain_id', 'd.name as domain', 'd.judgements'])
    .where('l.id', '=', letterId)
    .executeTakeFirstOrThrow();
  const links = await ctx.db
    .selectFrom('letter_links')
    .select('url')
    .where('letter_id', '=', letterId)
    .orderBy('position')
    .execute();
  const others = await ctx.db
    .selectFrom('letter_versions')
    .select(['subject', 'from_name', 'from_address', 'reply_to', 'html', 'text'])
    .where('letter_id', '=', letterId)
    .orderBy('n')
    .execute();
  const ring = ctx.config.keys;
  const compiled = (variant: number, textAlone: boolean) => {
    const other = variant ? others[variant - 1] : undefined;
    const from = other?.from_address ? other : letter;
    return compileMime(
      {
        html: other?.html ?? letter.html ?? '',
        text: other?.text ?? letter.text ?? '',
        subject: lineTemplate(other?.subject || letter.subject),
      },
      {
        fromName: from.from_name ?? letter.name,
        fromAddress: from.from_address ?? '',
        replyTo: from.reply_to ?? undefined,
        list: { name: letter.name, id: `${letter.slug}.${letter.domain}` },
        feedbackId: `${letterId}.${variant}:${letter.newsletter_id.slice(-12)}:${letter.kind}:inkset`,
        date: letter.started_at ?? ctx.clock.now(),
        boundary: `ink-${letterId}`,
        textAlone,
      },
    );
  };
  const plain = new Map<number, MimeTemplate>();
  return {
    domain: letter.domain,
    keys: await signingKeys(ctx, letter.domain_id),
    linkOrigin: linkOriginOf(ctx, letter),
    ring,
    links: links.map(({ url }, n) => `/${n}?u=${encodeURIComponent(url)}&s=${signText(ring, 'link', url)}`),
    templates: [0, ...others.map((_, n) => n + 1)].map((variant) => compiled(variant, false)),
    textAlone: (variant) => {
      const made = plain.get(variant) ?? compiled(variant, true);
      plain.set(variant, made);
      return made;
    },
  };
}

/**
 * One reader's message, signed. Its links for counting, its return path and its ways to leave carry tokens of their own, none of which can be turned
 * into another; the Message-ID is the same each time the copy is sent.
 */
export async function messageFor(letter: Prepared, to: Recipient): Promise<{ envelope: Envelope; message: Buffer }> {
  const { ring } = letter;
  const ref: DeliveryRef = { id: BigInt(to.id), sentOn: to.sentOn };
  const leaving = { readerId: to.readerId, delivery: ref };
  const back = returnPathDomain(letter.domain);
  const leaveUrl = `${letter.linkOrigin}/e/leave/${leaveToken(leaving, 'leave', ring)}`;
  const values: Record<string, string> = {
    [SLOT.leave]: leaveUrl,
    [SLOT.choices]: `${letter.linkOrigin}/e/choices/${leaveToken(leaving, 'choices', ring)}`,
    [SLOT.stay]: `${letter.linkOrigin}/e/stay/${leaveToken(leaving, 'stay', ring)}`,
    [SLOT.see]: `${letter.linkOrigin}/e/see/${leaveToken(leaving, 'see', ring)}`,
    [SLOT.pixel]: `${letter.linkOrigin}/e/o/${deliveryToken(ref, 'open', ring)}.gif`,
  };
  const click = `${letter.linkOrigin}/e/c/${deliveryToken(ref, 'click', ring)}`;
  for (let n = 0; n < letter.links.length; n += 1) values[`link:${n}`] = click + letter.links[n];
  const personal = {
    to: to.address,
    messageId: `<${messageName(ref, ring)}@${letter.domain}>`,
    leaveUrl,
    leaveMailto: `leave-${leaveToken(leaving, 'leave-mail', ring)}@${back}`,
  };
  const template = to.textAlone ? letter.textAlone(to.variant) : (letter.templates[to.variant] ?? letter.templates[0]!);
  const made = fillMime(template, personal, values, to.chips ?? {});
  const signatures = await signatureFields(made, letter.keys);
  return {
    envelope: { from: `b-${deliveryToken(ref, 'bounce', ring)}@${back}`, to: to.address },
    message: Buffer.concat([Buffer.from(signatures + headerBlock(made.headers)), made.body]),
  };
}
