import { simpleParser } from 'mailparser';
import sharp from 'sharp';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { readFeedDocument } from '@/core/autosend/feed';
import type { Node } from '@/core/writing/document';
import { STARTING_LAYOUT } from '@/core/writing/layout';
import { inTransaction } from '@/server/db/connection';
import { newId } from '@/server/ids';
import { eraseReaders } from '@/server/keeping/erase';
import { dropLayout, layoutsOf, makeLayout, makeUsual, saveLayout } from '@/server/newsletters/layouts';
import { publicRoutes } from '@/server/public/router';
import { sitePage } from '@/server/public/site-routes';
import { keepSegment, removeSegment } from '@/server/readers/segments';
import { previewAs, saveOwnText } from '@/server/sending/as-reader';
import { archiveLetter, beginLetter, draftOf, saveDraftLetter } from '@/server/sending/drafts';
import { lookOver } from '@/server/sending/look-over';
import { beginFromMarkdown, markdownOf } from '@/server/sending/markdown';
import { pageOf, publishPage, savePage, takeDown } from '@/server/sending/pages';
import { seenIn } from '@/server/sending/see-layout';
import { lettersOf, shelvesOf } from '@/server/sending/views';
import { MINUTE, TestWorld } from './world';

/* Posts as letters in a layout and as pages of the newsletter's site. */
let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
beforeEach(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
  await world.sender(newsletter);
});
afterEach(() => world.close());

const OTTO = { name: 'Ottoline Vance' };
const p = (text: string): Node => ({ kind: 'paragraph', inline: [{ kind: 'text', text }] });

/** A letter with these words. */
async function written(title: string, nodes: Node[], more: Record<string, unknown> = {}): Promise<string> {
  const { id } = await beginLetter(world.ctx, newsletter);
  await saveDraftLetter(world.ctx, newsletter, OTTO, id, {
    key: newId(),
    leave: true,
    revision: 1,
    change: { at: 0, remove: 0, insert: nodes },
    title,
    ...more,
  });
  return id;
}
/** Sends it to whoever reads. */
async function leave(id: string): Promise<void> {
  await world.lets(newsletter, id, '2026-11-24T10:00');
  world.clock.advance(61 * MINUTE);
  await world.work();
}
const PAGE = {
  goes: 'both',
  audience: 'everybody',
  slug: '',
  topics: '',
  picture: '',
  pictureAlt: '',
  description: '',
  canonical: '',
  author: 'Ottoline Vance',
  guest: '',
};
const page = (id: string, more: Partial<typeof PAGE>) => savePage(world.ctx, newsletter, id, { ...PAGE, ...more });
const at = (path: string, query = '') =>
  sitePage(world.ctx, newsletter.slug, path ? path.split('/') : [], new URLSearchParams(query));
const shown = async (path: string, query = '') => String((await at(path, query)).body);
/** The mail that somebody got. */
const mailTo = async (address: string) => simpleParser(world.mail.to(address).at(-1)!.source);

describe('a post as a page', () => {
  it('stands from the moment at which its letter leaves, in lists, topics and feeds, with what programs want to know', async () => {
    await world.readers(newsletter, ['ada@heronmail.example']);
    const id = await written('Counting <lights>', [p('At six hundred metres.'), { kind: 'stay', label: 'Only in mail' }], {
      subtitle: 'In the dark',
    });
    await page(id, { topics: 'Deep water, light, Light', description: 'How we count & why', slug: 'Counting lights!' });
    expect((await at('counting-lights')).status).toBe(404);
    expect(await shown('letters')).toContain('Nothing stands here yet.');
    await leave(id);
    const answer = await at('counting-lights');
    const html = String(answer.body);
    expect(answer.status).toBe(200);
    expect(html).toContain('<h1>Counting &lt;lights&gt;</h1>');
    expect(html).toContain('<p>At six hundred metres.</p>');
    expect(html).not.toContain('Only in mail');
    expect(html).toContain(`<link rel="canonical" href="${world.ctx.config.webOrigin}/at/${newsletter.slug}/counting-lights">`);
    expect(html).toContain('<meta property="og:description" content="How we count &amp; why">');
    expect(html).toContain('name="email"');
    const about = JSON.parse(/ld\+json">(.*?)<\/script>/.exec(html)![1]!);
    expect(about).toMatchObject({ headline: 'Counting <lights>', author: { name: 'Ottoline Vance' }, isAccessibleForFree: true });
    // Nothing runs, and nothing has our origin.
    expect(answer.headers['content-security-policy']).toMatch(/default-src 'none'.*sandbox(?!.*allow-scripts)/);
    expect(await shown('')).toContain('Counting &lt;lights&gt;');
    expect(await shown('letters')).toContain('topics/Deep%20water');
    expect(await shown('topics/light')).toContain('Counting &lt;lights&gt;');
    expect((await at('topics/nothing')).status).toBe(404);
    const rss = await shown('feed.xml');
    expect(rss).toContain('<title><![CDATA[Counting <lights>]]></title>');
    expect(rss).toContain('At six hundred metres.');
    const feed = JSON.parse(await shown('feed.json'));
    expect(feed.items).toHaveLength(1);
    expect(feed.items[0]).toMatchObject({
      title: 'Counting <lights>',
      url: expect.stringContaining('/counting-lights'),
      tags: ['Deep water', 'light'],
    });
    // The letter leads to it.
    expect(String((await mailTo('ada@heronmail.example')).html)).toContain(encodeURIComponent('/counting-lights'));
    await takeDown(world.ctx, newsletter, id);
    expect((await at('counting-lights')).status).toBe(404);
    expect(JSON.parse(await shown('feed.json')).items).toEqual([]);
  });

  it('leads on from where it stood, and is the same post in feeds', async () => {
    const id = await written('One', [p('Words')]);
    await page(id, { goes: 'page', slug: 'first' });
    await publishPage(world.ctx, newsletter, id);
    const before = JSON.parse(await shown('feed.json')).items[0].id;
    await page(id, { goes: 'page', slug: 'second' });
    const moved = await at('first');
    expect([moved.status, moved.headers.location]).toEqual([301, `${world.ctx.config.webOrigin}/at/${newsletter.slug}/second`]);
    expect(JSON.parse(await shown('feed.json')).items[0].id).toBe(before);
    expect((await pageOf(world.ctx, newsletter, id)).before).toEqual(['first']);
    // Another page may stand there; then it is that one.
    const other = await written('Other', [p('Other words')]);
    await expect(page(other, { goes: 'page', slug: 'second' })).rejects.toMatchObject({ fields: { slug: 'Taken already.' } });
    await page(other, { goes: 'page', slug: 'first' });
    await publishPage(world.ctx, newsletter, other);
    expect(await shown('first')).toContain('Other words');
    // Back again: nobody is led in a circle.
    await page(other, { goes: 'page', slug: 'third' });
    await page(id, { goes: 'page', slug: 'first' });
    expect((await at('first')).status).toBe(200);
    expect((await at('second')).status).toBe(301);
    for (const slug of ['letters', 'Topics', '!!!', 'draft-1'])
      await expect(page(id, { slug })).rejects.toMatchObject({ fields: { slug: expect.anything() } });
    for (const [field, value] of [
      ['canonical', 'javascript:x'],
      ['picture', 'data:x'],
      ['topics', 'a,b,c,d,e,f,g,h,i,j,k'],
    ] as const)
      await expect(page(id, { [field]: value })).rejects.toMatchObject({ code: 'invalid' });
  });

  it('for readers shows everybody its beginning, and each reader all of it by a link of their own', async () => {
    const [reader] = await world.readers(newsletter, ['ada@heronmail.example', 'ben@heronmail.example']);
    const id = await written('Secret', [
      p('One.'),
      p('Two.'),
      {
        kind: 'paragraph',
        inline: [
          { kind: 'text', text: 'Three, ' },
          { kind: 'chip', field: 'first_name', fallback: 'friend' },
        ],
      },
    ]);
    await page(id, { audience: 'readers', slug: 'secret' });
    await world.ctx.db.updateTable('readers').set({ first_name: 'Ada <A>' }).where('id', '=', reader!).execute();
    await leave(id);
    const html = await shown('secret');
    expect(html).toContain('Two.');
    expect(html).not.toContain('Three');
    expect(await shown('feed.xml')).not.toContain('Three');
    const mail = String((await mailTo('ada@heronmail.example')).html);
    const token = /\/e\/see\/([A-Za-z0-9_-]+)/.exec(mail)![1]!;
    const see = (which: string) =>
      publicRoutes(world.ctx, { take: () => {} } as never)({
        method: 'GET',
        url: new URL(`http://x/e/see/${which}`),
        headers: { get: () => null },
        client: '',
        body: async () => Buffer.alloc(0),
      });
    const own = await see(token);
    expect(String(own.body)).toContain('Three, Ada &lt;A&gt;');
    expect(String(own.body)).not.toMatch(/[\ue000\ue001]|\/e\/(c|o)\//);
    expect(own.headers).toMatchObject({ 'cache-control': 'private, no-store', 'x-robots-tag': 'noindex' });
    // Another purpose's token, one letter changed, or none, shows nothing.
    const leaving = /\/e\/leave\/([A-Za-z0-9_-]+)/.exec(mail)![1]!;
    for (const wrong of [leaving, `${token.slice(0, -1)}${token.endsWith('a') ? 'b' : 'a'}`, '', 'x'.repeat(5_000)])
      expect((await see(wrong)).status).toBe(404);
    await inTransaction(world.ctx.db, (trx) =>
      eraseReaders(world.ctx, trx, newsletter, [reader!], { actor: 'member', name: OTTO.name }),
    );
    expect((await see(token)).status).toBe(404);
  });

  it('is shared by a picture that is drawn once, in whatever script its title is', async () => {
    for (const [title, slug] of [
      ['Counting lights in the dark', 'a'],
      ['深海の光', 'b'],
      ['x'.repeat(290), 'c'],
      ['<b>&"', 'd'],
    ] as const) {
      const id = await written(title, [p('Words')]);
      await page(id, { goes: 'page', slug });
      await publishPage(world.ctx, newsletter, id);
      const { body, headers } = await at(`picture/${slug}.png`);
      expect(headers['content-type']).toBe('image/png');
      expect(await sharp(body as Buffer).metadata()).toMatchObject({ width: 1200, height: 630 });
    }
    expect((await at('picture/none.png')).status).toBe(404);
  });

  it('carries whatever was written without breaking its feeds, and goes on page by page', async () => {
    for (let n = 0; n < 23; n += 1) {
      const id = await written(`Post ${n}`, [p(`bad \u0008 \ufffe ]]> <x> ${n}`)]);
      await page(id, { goes: 'page', slug: `post-${n}` });
      await publishPage(world.ctx, newsletter, id);
      world.clock.advance(MINUTE);
    }
    const rss = await shown('feed.xml');
    expect(rss).not.toMatch(/[\u0008\ufffe]/);
    // Our own reader of feeds finds each of them, with all that it says.
    for (const [text, type] of [
      [rss, 'application/rss+xml'],
      [await shown('feed.json'), 'application/feed+json'],
    ] as const) {
      const { items } = readFeedDocument(Buffer.from(text), type, 'https://inkset.example/feed');
      expect(items).toHaveLength(20);
      expect(JSON.stringify(items[0]!.document)).toContain(']]> <x> 22');
    }
    const first = await shown('letters');
    expect(first.indexOf('Post 22')).toBeLessThan(first.indexOf('Post 21'));
    const before = /letters\?before=([^"]+)/.exec(first)![1]!;
    const second = await shown('letters', `before=${before}`);
    expect(second).toContain('Post 2<');
    expect(second).not.toContain('Post 3<');
    expect(second).not.toContain('?before=');
    expect((await at('letters', 'before=nothing')).status).toBe(200);
    expect((await sitePage(world.ctx, 'nobody', [], new URLSearchParams())).status).toBe(404);
    expect((await at('a/b/c')).status).toBe(404);
  });

  it('holds the newest posts and a form where they are wanted, and is no letter where it is a page alone', async () => {
    const old = await written('Older', [p('Words')]);
    await page(old, { goes: 'page', slug: 'older', description: 'What it was' });
    await publishPage(world.ctx, newsletter, old);
    const id = await written('Newer', [
      { kind: 'latest', most: 3, words: true },
      { kind: 'sign-up', formId: null },
    ]);
    await page(id, { goes: 'page', slug: 'newer' });
    await publishPage(world.ctx, newsletter, id);
    const html = await shown('newer');
    expect(html).toContain('What it was');
    expect(html.match(/name="email"/g)).toHaveLength(2);
    await expect(world.lets(newsletter, id, '2026-11-24T10:00')).rejects.toMatchObject({
      sentence: expect.stringContaining('a page alone'),
    });
    const letter = await written('Letter', [p('Words')]);
    await page(letter, { goes: 'letter' });
    await expect(publishPage(world.ctx, newsletter, letter)).rejects.toMatchObject({ code: 'conflict' });
    await world.readers(newsletter, ['ada@heronmail.example']);
    await leave(letter);
    expect(await shown('letters')).not.toContain('Letter<');
  });
});

describe('what differs from reader to reader', () => {
  it('is their name, in the subject too, and the parts for those in a segment; each as it stood when the letter began', async () => {
    const [ada] = await world.readers(newsletter, ['ada@heronmail.example', 'ben@postbird.example']);
    await world.ctx.db.updateTable('readers').set({ first_name: 'Ada' }).where('id', '=', ada!).execute();
    const segment = await keepSegment(world.ctx, newsletter, null, {
      name: 'At the heron',
      condition: { kind: 'domain', is: 'heronmail.example' },
    });
    const id = await written(
      'Hello',
      [
        {
          kind: 'paragraph',
          inline: [
            { kind: 'text', text: 'Dear ' },
            { kind: 'chip', field: 'first_name', fallback: 'reader' },
            { kind: 'text', text: ', or ' },
            { kind: 'chip', field: 'first_name', fallback: 'friend' },
          ],
        },
        { kind: 'part', segmentId: segment.id, inside: true, nodes: [p('For members')] },
        { kind: 'part', segmentId: segment.id, inside: false, nodes: [p('For others')] },
      ],
      { subject: 'For ‹first_name or you›', previewLine: 'To ‹first_name›' },
    );
    await expect(removeSegment(world.ctx, newsletter, segment.id)).rejects.toMatchObject({ code: 'conflict' });
    const as = (address: string) => previewAs(world.ctx, newsletter, id, address);
    expect((await as('ada@heronmail.example')).text).toMatch(/Dear Ada, or Ada[\s\S]*For members/);
    expect((await as('ben@postbird.example')).text).toMatch(/Dear reader, or friend[\s\S]*For others/);
    expect((await as('')).text).not.toContain('For members');
    await expect(as('nobody@heronmail.example')).rejects.toMatchObject({ code: 'not-found' });
    expect(await lookOver(world.ctx, newsletter, id)).toContainEqual(expect.objectContaining({ title: '1 person reads a gap' }));
    await leave(id);
    const [toAda, toBen] = [await mailTo('ada@heronmail.example'), await mailTo('ben@postbird.example')];
    expect([toAda.subject, toBen.subject]).toEqual(['For Ada', 'For you']);
    expect(toAda.text).toMatch(/Dear Ada, or Ada[\s\S]*For members/);
    expect(toAda.text).not.toContain('For others');
    expect(String(toBen.html)).toContain('For others');
    expect(String(toBen.html)).not.toContain('For members');
    expect(`${toAda.html}${toBen.html}${toAda.text}`).not.toMatch(/[\ue000\ue001]|part ends/);
  });

  it('cannot be begun or ended by anybody’s words: the way to leave is always there', async () => {
    await world.readers(newsletter, ['ada@heronmail.example']);
    const mark = '\ue000part:in:x\ue001';
    const id = await written('Hello', [p(`a${mark}b`), { kind: 'html', html: `<p>${mark}</p>` }], { subtitle: mark });
    await world.ctx.db
      .updateTable('posts')
      .set({ document: JSON.stringify({ version: 1, nodes: [p(`a${mark}b`)] }), subtitle: mark })
      .execute();
    await world.ctx.db
      .updateTable('newsletters')
      .set({ name: `N${mark}` })
      .execute();
    await leave(id);
    const mail = await mailTo('ada@heronmail.example');
    expect(mail.text).toContain('Unsubscribe');
    expect(String(mail.html)).toMatch(/apart:in:xb[\s\S]*Unsubscribe/);
  });

  it('is held where a part is for a segment that is gone', async () => {
    await world.readers(newsletter, ['ada@heronmail.example']);
    const segment = await keepSegment(world.ctx, newsletter, null, {
      name: 'Soon gone',
      condition: { kind: 'domain', is: 'postbird.example' },
    });
    const id = await written('Hello', [{ kind: 'part', segmentId: segment.id, inside: false, nodes: [p('For others')] }]);
    await world.lets(newsletter, id, '2026-11-24T10:00');
    await world.ctx.db.deleteFrom('segments').where('id', '=', segment.id).execute();
    world.clock.advance(61 * MINUTE);
    await world.work();
    expect((await draftOf(world.ctx, newsletter, id)).state).toBe('held');
    expect(world.mail.to('ada@heronmail.example')).toHaveLength(0);
    expect(await lookOver(world.ctx, newsletter, id)).toContainEqual(
      expect.objectContaining({ tone: 'stop', title: '1 part is for a segment that is gone' }),
    );
  });
});

describe('a text of one’s own', () => {
  it('leaves instead of what the letter says, is marked once they differ, and follows again at a word', async () => {
    await world.readers(newsletter, ['ada@heronmail.example']);
    const id = await written('Hello', [p('As the letter says.')]);
    await saveOwnText(world.ctx, newsletter, id, 'As I say, ‹first_name or you›.\ue000leave\ue001\0');
    let seen = await previewAs(world.ctx, newsletter, id, '');
    expect(seen).toMatchObject({ own: true, follows: true });
    expect(seen.text).toContain('As I say, you.');
    const draft = await draftOf(world.ctx, newsletter, id);
    await saveDraftLetter(world.ctx, newsletter, OTTO, id, {
      key: newId(),
      leave: true,
      revision: draft.revision,
      change: { at: 0, remove: 1, insert: [p('It says more.')] },
    });
    expect(await previewAs(world.ctx, newsletter, id, '')).toMatchObject({ own: true, follows: false });
    expect(await lookOver(world.ctx, newsletter, id)).toContainEqual(
      expect.objectContaining({ title: 'Its text no longer follows' }),
    );
    await saveOwnText(world.ctx, newsletter, id, null);
    seen = await previewAs(world.ctx, newsletter, id, '');
    expect(seen).toMatchObject({ own: false, follows: true });
    expect(seen.text).toContain('It says more.');
    await saveOwnText(world.ctx, newsletter, id, 'Mine.');
    await leave(id);
    const mail = await mailTo('ada@heronmail.example');
    expect(mail.text).toMatch(/Mine\.[\s\S]*Unsubscribe/);
    expect(String(mail.html)).toContain('It says more.');
    await expect(saveOwnText(world.ctx, newsletter, id, 'Late')).rejects.toMatchObject({ code: 'conflict' });
    await expect(saveOwnText(world.ctx, newsletter, id, 'x'.repeat(200_001))).rejects.toMatchObject({ code: 'invalid' });
  });
});

describe('a letter as Markdown', () => {
  const file = (text: string | Uint8Array<ArrayBuffer>, name = 'notes.md') => new File([text], name, { type: 'text/markdown' });
  it('goes out with what it says of itself, and comes in again', async () => {
    const id = await written('Of eels', [p('They swim.'), { kind: 'code', text: 'a' }], { subtitle: 'Slowly' });
    await page(id, { slug: 'eels', topics: 'Deep water' });
    const { markdown } = await markdownOf(world.ctx, newsletter, id);
    expect(markdown).toMatch(/^---\ntitle: Of eels\nsubtitle: Slowly\nslug: eels\ntopics:\n {2}- Deep water\n/);
    const back = await beginFromMarkdown(world.ctx, newsletter, OTTO, file(markdown));
    const draft = await draftOf(world.ctx, newsletter, back.id);
    expect(draft).toMatchObject({
      title: 'Of eels',
      subtitle: 'Slowly',
      document: { nodes: [p('They swim.'), { kind: 'code', text: 'a' }] },
    });
    // Its address is taken, so it keeps one of its own.
    const made = await pageOf(world.ctx, newsletter, back.id);
    expect(made.topics).toEqual(['Deep water']);
    expect(made.slug).not.toBe('eels');
    const bare = await beginFromMarkdown(world.ctx, newsletter, OTTO, file('# Its title\n\nWords'));
    expect(await draftOf(world.ctx, newsletter, bare.id)).toMatchObject({
      title: 'Its title',
      document: { nodes: [p('Words')] },
    });
  });
  it('is refused in words where it is none', async () => {
    for (const wrong of [file(''), file(new Uint8Array([0x50, 0x4b, 0, 1])), file('x'.repeat(2_000_001)), null])
      await expect(beginFromMarkdown(world.ctx, newsletter, OTTO, wrong)).rejects.toMatchObject({
        fields: { file: expect.anything() },
      });
  });
});

describe('layouts', () => {
  const all = () => layoutsOf(world.ctx, newsletter);
  it('are kept once: one is usual, and letters and the mails that confirm look as it says', async () => {
    const [usual] = await all();
    expect(usual).toMatchObject({ usual: true });
    const { id } = await makeLayout(world.ctx, newsletter, usual!.id);
    const copy = (await all()).find((one) => one.id === id)!;
    const look = {
      ...STARTING_LAYOUT.look,
      width: 480 as const,
      colours: { ...STARTING_LAYOUT.look.colours, sheet: '#fafafa', accent: '#a8322a' },
    };
    const { since } = await saveLayout(world.ctx, newsletter, id, {
      name: 'Short',
      layout: { ...STARTING_LAYOUT, look },
      since: copy.updatedAt.toISOString(),
    });
    // A second window that knows it as it was overwrites nothing.
    await expect(
      saveLayout(world.ctx, newsletter, id, { name: 'Mine', layout: STARTING_LAYOUT, since: copy.updatedAt.toISOString() }),
    ).rejects.toMatchObject({ code: 'conflict' });
    await expect(
      saveLayout(world.ctx, newsletter, id, { name: usual!.name, layout: STARTING_LAYOUT, since }),
    ).rejects.toMatchObject({ fields: { name: expect.anything() } });
    for (const wrong of [
      { ...STARTING_LAYOUT, look: { ...look, colours: { ...look.colours, ink: 'red' } } },
      { ...STARTING_LAYOUT, nodes: [] },
      { ...STARTING_LAYOUT, look: { ...look, text: 'x' } },
    ])
      await expect(saveLayout(world.ctx, newsletter, id, { name: 'Short', layout: wrong, since })).rejects.toMatchObject({
        code: 'invalid',
      });
    await world.readers(newsletter, ['ada@heronmail.example']);
    const named = await written('Named', [p('Words')], { layoutId: id });
    await leave(named);
    expect(String((await mailTo('ada@heronmail.example')).html)).toContain('max-width:480px');
    await expect(dropLayout(world.ctx, newsletter, usual!.id)).rejects.toMatchObject({ code: 'conflict' });
    await makeUsual(world.ctx, newsletter, id);
    expect((await all()).map((one) => one.usual)).toEqual([true, false]);
    // Who joins is asked in the same dress.
    await world.signUps.join(
      await world.form(newsletter),
      { email: 'eve@heronmail.example' },
      { network: '192.0.2.9', agent: 'A browser' },
    );
    await world.work();
    expect(String((await mailTo('eve@heronmail.example')).html)).toContain('#fafafa');
    await dropLayout(world.ctx, newsletter, usual!.id);
    expect(await all()).toHaveLength(1);
    expect((await seenIn(world.ctx, newsletter, { layout: { ...STARTING_LAYOUT, look }, on: 'sample' })).html).toContain(
      '#fafafa',
    );
    expect((await seenIn(world.ctx, newsletter, { layout: { ...STARTING_LAYOUT, look }, on: 'confirmation' })).html).toContain(
      '#fafafa',
    );
  });

  it('of another newsletter are nobody’s here', async () => {
    const stranger = await world.newsletter('Elsewhere');
    const [theirs] = await layoutsOf(world.ctx, stranger);
    const id = await written('Mine', [p('Words')], { layoutId: theirs!.id });
    expect((await draftOf(world.ctx, newsletter, id)).layoutId).toBeNull();
    for (const act of [makeUsual, dropLayout])
      await expect(act(world.ctx, newsletter, theirs!.id)).rejects.toMatchObject({ code: 'not-found' });
  });
});

describe('letters on their shelves', () => {
  it('are counted as they are listed, say what they need, and go on without end', async () => {
    const ids: string[] = [];
    for (let n = 0; n < 5; n += 1) ids.push(await written(n ? `Draft ${n}` : '', n ? [p('Words')] : []));
    await archiveLetter(world.ctx, newsletter, ids[4]!, true);
    await world.readers(newsletter, ['ada@heronmail.example']);
    await leave(ids[3]!);
    const counts = await shelvesOf(world.ctx, newsletter);
    expect(counts).toEqual({ all: 4, drafts: 3, runway: 0, leaving: 0, sent: 1, away: 1 });
    for (const shelf of ['all', 'drafts', 'runway', 'leaving', 'sent', 'away'] as const) {
      const seen: string[] = [];
      let before: string | null = null;
      do {
        const { letters, more }: Awaited<ReturnType<typeof lettersOf>> = await lettersOf(world.ctx, newsletter, {
          shelf,
          most: 2,
          before,
        });
        seen.push(...letters.map((one) => one.id));
        before = more;
      } while (before);
      expect(new Set(seen).size).toBe(counts[shelf]);
      expect(seen).toHaveLength(counts[shelf]);
    }
    const { letters } = await lettersOf(world.ctx, newsletter, { shelf: 'drafts' });
    expect(letters.find((one) => one.id === ids[0])?.next).toBe('Write it');
    expect(letters.find((one) => one.id === ids[1])?.next).toBe('Give it a time');
    await world.lets(newsletter, ids[1]!, '2026-11-30T10:00');
    await expect(archiveLetter(world.ctx, newsletter, ids[1]!, true)).rejects.toMatchObject({ code: 'conflict' });
  });
});
