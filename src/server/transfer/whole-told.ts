import type { Context, Newsletter } from '../context';
import type { Db } from '../db/connection';
import { post } from '../mail/post';

/** Mails whoever brought a newsletter back that all of it is here. */
export async function tellBack(
  ctx: Context,
  db: Db,
  newsletter: Pick<Newsletter, 'name' | 'colour' | 'slug'>,
  to: string,
): Promise<void> {
  const heading = `${newsletter.name} is back, whole`;
  await post(ctx, db, {
    newsletterId: null,
    kind: 'file',
    to,
    subject: heading,
    notice: {
      name: newsletter.name,
      colour: newsletter.colour,
      heading,
      paragraphs: [
        'Everything that was in its file is here. Nothing leaves by itself yet: its senders have to be confirmed, its domains proven with new keys, and what goes out by itself has to be switched on.',
      ],
      link: { label: 'Open it', url: `${ctx.config.webOrigin}/desk/${newsletter.slug}/today` },
      footer: ['You get this mail because you brought this newsletter back.'],
    },
  });
}
