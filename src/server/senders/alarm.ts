import { Fault } from '@/core/faults';
import { parseAddress } from '@/core/readers/address';
import type { Examined } from '@/core/senders/examine';
import { isWrong } from '@/core/senders/judge';
import { recordsAsText, zoneFile } from '@/core/senders/zone-file';
import type { Notice } from '@/core/writing/notice';
import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import { limit, limitMailTo } from '../limits';
import { post } from '../mail/post';
import { ownersOf } from '../newsletters/members';

type Domain = { id: string; name: string; newsletter_id: string };

/** Tells the owners by mail that a record that was right is not right any more, with what to paste. In the check's transaction. */
export async function tellBroken(ctx: Context, db: Db, domain: Domain, records: Examined[]): Promise<void> {
  const wrong = records.filter((record) => record.needed && isWrong(record.judgement.verdict));
  await tell(ctx, db, domain, (newsletter) => ({
    subject: `${domain.name}: a record broke, letters wait`,
    heading: `${domain.name}: a record broke`,
    paragraphs: [
      `Letters of ${newsletter} wait until it is mended; none is lost, and they leave by themselves afterwards.`,
      ...wrong.map(
        (record) => `${record.title} (${record.type} at ${record.name}): ${record.judgement.label}. ${record.judgement.sentence}`,
      ),
    ],
    link: 'See what differs',
    path: `/delivery/domains/${domain.id}`,
  }));
}

/** Tells the owners by mail that every record of a domain stands, so that nobody has to watch for it. In the check's transaction. */
export async function tellStands(ctx: Context, db: Db, domain: Domain): Promise<void> {
  await tell(ctx, db, domain, (newsletter) => ({
    subject: `${domain.name}: every record stands`,
    heading: `${domain.name}: every record stands`,
    paragraphs: [`Its records no longer hold back letters of ${newsletter}: from now on they are signed and aligned.`],
    link: 'Go on',
    path: '/today',
  }));
}

async function tell(
  ctx: Context,
  db: Db,
  domain: Domain,
  say: (newsletter: string) => Pick<Notice, 'heading' | 'paragraphs'> & Record<'subject' | 'link' | 'path', string>,
): Promise<void> {
  const newsletter = await db
    .selectFrom('newsletters')
    .select(['name', 'slug'])
    .where('id', '=', domain.newsletter_id)
    .executeTakeFirstOrThrow();
  const { subject, heading, paragraphs, link, path } = say(newsletter.name);
  const notice: Notice = {
    name: 'Inkset',
    colour: '#17645c',
    heading,
    paragraphs,
    link: { label: link, url: `${ctx.config.webOrigin}/desk/${newsletter.slug}${path}` },
    footer: [`You get this because you own ${newsletter.name}.`],
  };
  for (const owner of await ownersOf(db, domain.newsletter_id))
    await post(ctx, db, { newsletterId: null, kind: 'alert', to: owner.email, subject, notice });
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
    ],
    exact: [
      recordsAsText(domain.name, newsletter.name, domain.records),
      'The same as a zone file:',
      zoneFile(domain.name, domain.records),
    ].join('\n\n'),
    footer: [`You get this because ${person.name} typed this address as that of whoever runs ${domain.name}.`],
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
