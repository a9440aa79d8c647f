import { Fault } from '@/core/faults';
import { parseAddress } from '@/core/readers/address';
import type { Examined } from '@/core/senders/examine';
import { recordsAsText, zoneFile } from '@/core/senders/zone-file';
import type { Notice } from '@/core/writing/notice';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import { limit, limitMailTo } from '../limits';
import { post } from '../mail/post';
import { ownersOf } from '../newsletters/members';

/** Tells the owners by mail that a record that was right is not right any more, with what to paste. In the check's transaction. */
export async function tellBroken(
  ctx: Context,
  db: Db,
  domain: { id: string; name: string; newsletter_id: string },
  records: Examined[],
): Promise<void> {
  const newsletter = await db
    .selectFrom('newsletters')
    .select(['name', 'slug'])
    .where('id', '=', domain.newsletter_id)
    .executeTakeFirstOrThrow();
  const wrong = records.filter((record) => record.needed && !['right', 'look', 'unanswered'].includes(record.judgement.verdict));
  const notice: Notice = {
    name: 'Inkset',
    colour: '#17645c',
    heading: `${domain.name}: a record broke`,
    paragraphs: [
      `Letters of ${newsletter.name} wait until it is mended; none is lost, and they leave by themselves afterwards.`,
      ...wrong.map(
        (record) => `${record.title} (${record.type} at ${record.name}): ${record.judgement.label}. ${record.judgement.sentence}`,
      ),
    ],
    link: { label: 'See what differs', url: `${ctx.config.webOrigin}/desk/${newsletter.slug}/delivery/domains/${domain.id}` },
    footer: [`You get this because you own ${newsletter.name}.`],
  };
  for (const owner of await ownersOf(db, domain.newsletter_id)) {
    await post(ctx, db, {
      newsletterId: null,
      kind: 'alert',
      to: owner.email,
      subject: `${domain.name}: a record broke, letters wait`,
      notice,
    });
  }
}

/** Tells the owners by mail that every record of a domain stands, so that nobody has to watch for it. In the check's transaction. */
export async function tellStands(
  ctx: Context,
  db: Db,
  domain: { id: string; name: string; newsletter_id: string },
): Promise<void> {
  const newsletter = await db
    .selectFrom('newsletters')
    .select(['name', 'slug'])
    .where('id', '=', domain.newsletter_id)
    .executeTakeFirstOrThrow();
  const notice: Notice = {
    name: 'Inkset',
    colour: '#17645c',
    heading: `${domain.name}: every record stands`,
    paragraphs: [`Letters of ${newsletter.name} from ${domain.name} are signed and aligned now, and may leave.`],
    link: { label: 'Go on', url: `${ctx.config.webOrigin}/desk/${newsletter.slug}/today` },
    footer: [`You get this because you own ${newsletter.name}.`],
  };
  for (const owner of await ownersOf(db, domain.newsletter_id))
    await post(ctx, db, {
      newsletterId: null,
      kind: 'alert',
      to: owner.email,
      subject: `${domain.name}: every record stands`,
      notice,
    });
}

/** Sends everything about a domain's records to whoever runs it, as one mail. Throws "invalid" for what is no address, "too-many". */
export async function mailRecords(
  ctx: Context,
  newsletter: Newsletter,
  person: { name: string; email: string },
  domain: { name: string; records: Parameters<typeof zoneFile>[1] },
  typed: unknown,
): Promise<void> {
  const address = parseAddress(String(typed ?? ''));
  if (!address)
    throw new Fault('invalid', 'This does not look like an email address.', { to: 'This does not look like an email address.' });
  await limit(ctx, `records-mail:${newsletter.id}`, 10, 86_400, 'The records have been sent ten times today. Copy them instead.');
  await limitMailTo(ctx, address.full);
  const notice: Notice = {
    name: 'Inkset',
    colour: '#17645c',
    heading: `DNS records for ${domain.name}`,
    paragraphs: [
      `${person.name} (${person.email}) asks you for these: they let mailboxes believe the letters of ${newsletter.name}.`,
      'Nothing else of the domain changes, and its other mail goes on as it is.',
    ],
    exact: [
      recordsAsText(domain.name, newsletter.name, domain.records),
      'The same as a zone file:',
      zoneFile(domain.name, domain.records),
    ].join('\n\n'),
    footer: [`You get this once, because ${person.name} typed this address as that of whoever runs ${domain.name}.`],
  };
  await post(ctx, ctx.db, {
    newsletterId: null,
    kind: 'records',
    from: { name: `${person.name} by Inkset`, address: `hello@${ctx.config.mailDomain}`, replyTo: person.email },
    to: address.full,
    subject: `DNS records for ${domain.name}`,
    notice,
  });
}
