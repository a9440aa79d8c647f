import { createHmac } from 'node:crypto';
import { LINKS_HOST, returnPathDomain } from '@/core/senders/records';
import { type DkimKey, signatureFields } from '@/core/sending/dkim';
import { compileMime, fillMime, headerBlock, type MimeTemplate } from '@/core/sending/mime';
import { deliveryToken } from '@/core/sending/token';
import { SLOT } from '@/core/writing/render';
import type { Context } from '../context';
import type { Envelope } from '../mail/smtp';
import { signingKeys } from '../senders/keys';

/** A letter made ready once per process: MIME compiled, key opened, links signed. */
export type Prepared = {
  template: MimeTemplate;
  domain: string;
  keys: DkimKey[];
  links: string[];
  linkOrigin: string;
  secret: string;
};
export type Recipient = { id: string; sentOn: string; address: string };

/** The signature that lets a link leave our host: over the target alone, the same for every reader of the letter. */
export const linkSignature = (url: string, secret: string) =>
  createHmac('sha256', secret).update('link').update(url).digest('hex').slice(0, 20);

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
    .select(['l.html', 'l.text', 'l.subject', 'l.from_name', 'l.from_address', 'l.reply_to', 'l.started_at', 'n.name', 'n.slug'])
    .select(['d.id as domain_id', 'd.name as domain', 'd.judgements'])
    .where('l.id', '=', letterId)
    .executeTakeFirstOrThrow();
  const links = await ctx.db
    .selectFrom('letter_links')
    .select('url')
    .where('letter_id', '=', letterId)
    .orderBy('position')
    .execute();
  return {
    domain: letter.domain,
    keys: await signingKeys(ctx, letter.domain_id),
    linkOrigin: linkOriginOf(ctx, letter),
    secret: ctx.config.secret,
    links: links.map(({ url }, n) => `/${n}?u=${encodeURIComponent(url)}&s=${linkSignature(url, ctx.config.secret)}`),
    template: compileMime(
      { html: letter.html ?? '', text: letter.text ?? '', subject: letter.subject },
      {
        fromName: letter.from_name ?? letter.name,
        fromAddress: letter.from_address ?? '',
        replyTo: letter.reply_to ?? undefined,
        listId: `<${letter.slug}.${letter.domain}>`,
        date: letter.started_at ?? ctx.clock.now(),
        boundary: `ink-${letterId}`,
      },
    ),
  };
}

/**
 * One reader's message, signed. The token stands in the return path (VERP), the leave and count links and the Message-ID, so a
 * letter sent twice after a crash carries the same Message-ID both times.
 */
export async function messageFor(letter: Prepared, to: Recipient): Promise<{ envelope: Envelope; message: Buffer }> {
  const token = deliveryToken({ id: BigInt(to.id), sentOn: to.sentOn }, letter.secret);
  const back = returnPathDomain(letter.domain);
  const leaveUrl = `${letter.linkOrigin}/e/leave/${token}`;
  const values: Record<string, string> = { [SLOT.leave]: leaveUrl, [SLOT.pixel]: `${letter.linkOrigin}/e/o/${token}.gif` };
  const click = `${letter.linkOrigin}/e/c/${token}`;
  for (let n = 0; n < letter.links.length; n += 1) values[`link:${n}`] = click + letter.links[n];
  const personal = {
    to: to.address,
    messageId: `<${token}@${letter.domain}>`,
    leaveUrl,
    leaveMailto: `leave-${token}@${back}`,
  };
  const { headers, body } = fillMime(letter.template, personal, values);
  const signatures = await signatureFields(headers, body, letter.keys);
  return {
    envelope: { from: `b-${token}@${back}`, to: to.address },
    message: Buffer.concat([Buffer.from(signatures + headerBlock(headers)), body]),
  };
}
