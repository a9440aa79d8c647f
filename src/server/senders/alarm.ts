import type { Examined } from '@/core/senders/examine';
import type { Notice } from '@/core/writing/notice';
import type { Context } from '../context';
import type { Db } from '../db/connection';
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
