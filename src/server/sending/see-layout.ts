import Joi from 'joi';
import { startingForm } from '@/core/forms/definition';
import { confirmationMail } from '@/core/forms/mails';
import { escapeHtml } from '@/core/html';
import { bind, type Layout } from '@/core/writing/layout';
import { renderNotice } from '@/core/writing/notice';
import { renderHtml } from '@/core/writing/render';
import { layoutSchema } from '@/core/writing/schemas';
import { chipOf, filledFor } from '@/core/writing/slots';
import { check } from '../check';
import type { Context, Newsletter } from '../context';
import { asPost, frameOf, siteUrl, spokenDay } from './laid-out';

/* A layout while it is being changed, shown on a letter that is there already, or on one that every newsletter can have. */

const SAMPLE = 'sample';
const CONFIRMATION = 'confirmation';

/** What a layout can be seen on: the newest posts, a sample, and the mail that asks to confirm. */
export async function lettersToSee(ctx: Context, newsletter: Newsletter): Promise<{ id: string; label: string }[]> {
  const posts = await ctx.db
    .selectFrom('posts')
    .select(['id', 'title'])
    .where('newsletter_id', '=', newsletter.id)
    .where('title', '<>', '')
    .orderBy('updated_at', 'desc')
    .limit(8)
    .execute();
  return [
    ...posts.map((post) => ({ id: post.id, label: post.title })),
    { id: SAMPLE, label: 'A sample' },
    { id: CONFIRMATION, label: 'The mail that asks to confirm' },
  ];
}

const schema = Joi.object<{ layout: Layout; on: string }>({
  layout: layoutSchema.required(),
  on: Joi.string().max(40).required(),
});

/** A letter as this layout would have it. Throws "invalid" for a layout that is none. */
export async function seenIn(ctx: Context, newsletter: Newsletter, raw: unknown): Promise<{ html: string }> {
  const { layout, on } = check(schema, raw);
  if (on === CONFIRMATION) {
    const {
      subject: _,
      label,
      ...mail
    } = confirmationMail(startingForm(newsletter.name, newsletter.language), newsletter.name, [newsletter.name]);
    const notice = {
      ...mail,
      colour: newsletter.accent,
      link: { label, url: siteUrl(ctx, newsletter) },
      footer: [newsletter.postal_address.replace(/\r?\n/g, ', ')],
    };
    return { html: renderNotice(notice, undefined, layout.look).html };
  }
  const row =
    on === SAMPLE
      ? undefined
      : await ctx.db
          .selectFrom('posts')
          .selectAll()
          .where('newsletter_id', '=', newsletter.id)
          .where('id', '=', /^[0-9a-f-]{36}$/.test(on) ? on : '00000000-0000-0000-0000-000000000000')
          .executeTakeFirst();
  const now = ctx.clock.now();
  const day = spokenDay(now, newsletter.language, newsletter.time_zone);
  const document = bind(
    layout,
    row ? asPost(ctx, newsletter, row, now) : { ...sample(newsletter.name), link: siteUrl(ctx, newsletter), day },
  );
  const frame = { ...frameOf(ctx, newsletter), countsOpens: false, previewLine: '', look: layout.look, seen: true };
  const html = filledFor(
    await renderHtml(document, frame),
    (name) => escapeHtml(chipOf(name)?.fallback ?? '#'),
    () => null,
  );
  return { html };
}

const say = (text: string) => ({ kind: 'paragraph' as const, inline: [{ kind: 'text' as const, text }] });
const sample = (name: string) => ({
  title: 'What a letter is called',
  subtitle: 'What it is about, in a line',
  summary: '',
  picture: null,
  author: name,
  document: {
    version: 1 as const,
    nodes: [
      say(
        'Its first words stand here. A letter begins with what its readers want to know, and lets them stop whenever they like.',
      ),
      { kind: 'heading' as const, level: 2 as const, inline: [{ kind: 'text' as const, text: 'A heading' }] },
      say('Under it, more of the same. Lines are short enough to be read on a phone, and long enough to be read at a desk.'),
      { kind: 'quote' as const, nodes: [say('Words of somebody else stand a little apart.')] },
      { kind: 'call-out' as const, nodes: [say('What must not be missed stands on a ground of its own.')] },
      { kind: 'button' as const, label: 'What to do next', href: 'https://example.test/' },
    ],
  },
});
