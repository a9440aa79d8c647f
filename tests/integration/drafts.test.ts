import { simpleParser } from 'mailparser';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import type { Node } from '@/core/writing/document';
import { changeBetween } from '@/core/writing/editing';
import { newId } from '@/server/ids';
import {
  beginLetter,
  discardLetter,
  draftOf,
  duplicateLetter,
  holdLetter,
  restoreLetter,
  saveDraftLetter,
  versionOf,
  versionsOfLetter,
} from '@/server/sending/drafts';
import { sendProof } from '@/server/sending/proof';
import { letterOf } from '@/server/sending/views';
import { DAY, MINUTE, TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
let id: string;
beforeEach(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
  await world.sender(newsletter);
  ({ id } = await beginLetter(world.ctx, newsletter));
});
afterEach(() => world.close());

const OTTO = { name: 'Ottoline Vance' };
const PIA = { name: 'Pia Marlowe' };
const [HERE, THERE] = [newId(), newId()];
const p = (text: string): Node => ({ kind: 'paragraph', inline: [{ kind: 'text', text }] });
const draft = () => draftOf(world.ctx, newsletter, id);

/** Saves as an editor does: what changed, on top of what it knows. */
async function save(nodes: Node[], more: Record<string, unknown> = {}, who = OTTO) {
  const now = await draft();
  const { title, subtitle, subject, previewLine, senderId } = now;
  return saveDraftLetter(world.ctx, newsletter, who, id, {
    key: HERE,
    revision: now.revision,
    change: changeBetween(now.document.nodes, nodes),
    title,
    subtitle,
    subject,
    previewLine,
    senderId,
    ...more,
  });
}

describe('a letter that is being written', () => {
  it('is saved a change at a time, takes its subject from its title until it has its own, and leaves as it stands', async () => {
    const begun = await draft();
    expect(begun).toMatchObject({
      state: 'draft',
      title: '',
      subject: null,
      previewLine: null,
      revision: 1,
      document: { version: 1, nodes: [] },
    });
    await save([p('one'), p('two'), p('three')], { title: 'The lamp-fish census', subtitle: 'How do you count?' });
    await save([p('one'), p('2'), p('three')]);
    await save([p('one'), p('2'), p('three'), { kind: 'button', label: 'Look', href: 'https://saltmarsh.example/a' }]);
    expect((await letterOf(world.ctx, newsletter, id)).subject).toBe('The lamp-fish census');
    await save((await draft()).document.nodes, { subject: 'Lights at 600 metres' });
    const now = await draft();
    expect(now).toMatchObject({ subject: 'Lights at 600 metres', previewLine: null, revision: 5 });
    expect(now.document.nodes.map((node) => node.kind)).toEqual(['paragraph', 'paragraph', 'paragraph', 'button']);
    // Control characters, halves of characters and forged places are none of it.
    await save([p('a\u0000b\ud800c')], { title: 'x\u0007y', subject: null });
    expect((await draft()).document.nodes).toEqual([p('ab\ufffdc')]);
    await save([p('Forty seconds of light.')], { title: 'The lamp-fish census' });
    await world.readers(newsletter, ['ada@heronmail.example']);
    await world.lets(newsletter, id, '2026-11-25T07:00');
    // It can be written on until it leaves.
    await save([p('Forty seconds of light, then dark.')]);
    world.clock.advance(DAY);
    await world.work();
    const mail = await simpleParser(world.mail.to('ada@heronmail.example')[0]!.source);
    expect(mail.subject).toBe('The lamp-fish census');
    expect(mail.text).toMatch(/The lamp-fish census \[1\]\n=+\n\nHow do you count\?\n\nForty seconds of light, then dark\./);
    await expect(save([p('late')])).rejects.toMatchObject({
      code: 'conflict',
      sentence: expect.stringContaining('begun to leave'),
    });
  });

  it('without a subject goes nowhere, and says so', async () => {
    await world.readers(newsletter, ['ada@heronmail.example']);
    await expect(world.lets(newsletter, id, '2026-11-25T07:00')).rejects.toMatchObject({
      code: 'invalid',
      sentence: expect.stringContaining('no subject'),
    });
    // Nor where it loses it on the runway.
    await save([p('one')], { title: 'The lamp-fish census' });
    await world.lets(newsletter, id, '2026-11-25T07:00');
    await save([], { title: '' });
    world.clock.advance(DAY);
    await world.work();
    expect(await letterOf(world.ctx, newsletter, id)).toMatchObject({
      state: 'held',
      cause: expect.stringContaining('no subject'),
    });
    expect(world.mail.to('ada@heronmail.example')).toEqual([]);
  });

  it('is written in one window at a time: the second is told whose it is, and overwrites nothing', async () => {
    expect(await holdLetter(world.ctx, newsletter, OTTO, id, { key: HERE })).toMatchObject({ mine: true });
    expect(await holdLetter(world.ctx, newsletter, PIA, id, { key: THERE })).toMatchObject({ mine: false, by: 'Ottoline Vance' });
    await expect(save([p('over')], { key: THERE }, PIA)).rejects.toMatchObject({
      code: 'conflict',
      sentence: expect.stringContaining('Ottoline Vance is writing'),
    });
    await save([p('one')], { title: 'T' });
    // Taken over, deliberately: now it is the first who is told.
    expect(await holdLetter(world.ctx, newsletter, PIA, id, { key: THERE, take: true })).toMatchObject({
      mine: true,
      revision: 2,
    });
    await expect(save([p('over')])).rejects.toMatchObject({
      code: 'conflict',
      sentence: expect.stringContaining('Pia Marlowe is writing'),
    });
    // A window that closes, or falls silent, holds nothing.
    await holdLetter(world.ctx, newsletter, PIA, id, { key: THERE, leave: true });
    expect(await holdLetter(world.ctx, newsletter, OTTO, id, { key: HERE })).toMatchObject({ mine: true });
    world.clock.advance(MINUTE);
    expect(await holdLetter(world.ctx, newsletter, PIA, id, { key: THERE })).toMatchObject({ mine: true });
  });

  it('saved on top of what is not there any more is refused, and two at once keep one', async () => {
    await save([p('one')], { title: 'T' });
    await expect(save([p('x')], { revision: 1 })).rejects.toMatchObject({ code: 'conflict' });
    await expect(save([p('x')], { change: { at: 5, remove: 1, insert: [] } })).rejects.toMatchObject({
      code: 'conflict',
      sentence: expect.stringContaining('otherwise'),
    });
    const { revision } = await draft();
    const both = await Promise.allSettled(['left', 'right'].map((word) => save([p(word)], { revision })));
    expect(both.filter((one) => one.status === 'fulfilled')).toHaveLength(1);
    expect((await draft()).revision).toBe(revision + 1);
    await expect(save([{ kind: 'picture', src: 'javascript:alert(1)', alt: '' }])).rejects.toMatchObject({ code: 'invalid' });
    await expect(save([p('x'.repeat(200_000))])).rejects.toMatchObject({ code: 'invalid' });
    expect((await draft()).revision).toBe(revision + 1);
    const later = { kind: 'hologram', depth: 3 } as never;
    await save([p('one'), later, p('two')]);
    expect((await draft()).document.nodes).toEqual([p('one'), later, p('two')]);
  });

  it('keeps how it stood, and brings it back without losing how it stands', async () => {
    await save([p('one')], { title: 'First' });
    world.clock.advance(11 * MINUTE);
    await save([p('two')], { title: 'Second' });
    world.clock.advance(MINUTE);
    await save([p('three')], { title: 'Third' });
    const versions = await versionsOfLetter(world.ctx, newsletter, id);
    expect(versions.map((one) => one.title)).toEqual(['First']);
    expect((await versionOf(world.ctx, newsletter, id, versions[0]!.revision)).document.nodes).toEqual([p('one')]);
    await restoreLetter(world.ctx, newsletter, OTTO, id, versions[0]!.revision);
    expect(await draft()).toMatchObject({ title: 'First', document: { nodes: [p('one')] } });
    expect((await versionsOfLetter(world.ctx, newsletter, id)).map((one) => one.title)).toEqual(['Third', 'First']);
    await expect(restoreLetter(world.ctx, newsletter, OTTO, id, 99)).rejects.toMatchObject({ code: 'not-found' });
  });

  it('written by a later version is read, and not made one of ours by a save', async () => {
    await save([p('one')], { title: 'First' });
    const later = { version: 2, nodes: [p('one'), { kind: 'hologram', depth: 3 }] };
    await world.ctx.db
      .updateTable('posts')
      .set({ document: JSON.stringify(later) })
      .execute();
    await expect(save([p('two')])).rejects.toMatchObject({
      code: 'conflict',
      sentence: expect.stringContaining('later version'),
    });
    expect((await draft()).document).toEqual(later);
    // A node alone that this version does not know stays as it is.
    await world.ctx.db
      .updateTable('posts')
      .set({ document: JSON.stringify({ ...later, version: 1 }) })
      .execute();
    await save([p('two'), later.nodes[1] as Node]);
    expect((await draft()).document.nodes).toEqual([p('two'), { kind: 'hologram', depth: 3 }]);
  });

  it('is duplicated, thrown away while it is a draft, and nobody else’s', async () => {
    await save([p('one')], { title: 'First', subject: 'Own' });
    const copy = await duplicateLetter(world.ctx, newsletter, id);
    expect(await draftOf(world.ctx, newsletter, copy.id)).toMatchObject({
      title: 'First (copy)',
      subject: 'Own',
      document: { nodes: [p('one')] },
    });
    const stranger = await world.newsletter('Harbour Notes');
    for (const work of [
      () => draftOf(world.ctx, stranger, id),
      () =>
        saveDraftLetter(world.ctx, stranger, OTTO, id, {
          key: HERE,
          revision: 2,
          change: null,
          title: '',
          subtitle: '',
          subject: null,
          previewLine: null,
          senderId: null,
        }),
      () => holdLetter(world.ctx, stranger, OTTO, id, { key: HERE, take: true }),
      () => discardLetter(world.ctx, stranger, id),
      () => sendProof(world.ctx, stranger, OTTO, id, { to: 'a@heronmail.example' }),
    ])
      await expect(work()).rejects.toMatchObject({ code: 'not-found' });
    // Another newsletter's sender is not taken.
    const { senderId } = await world.sender(stranger, 'harbour.example');
    await save([p('one')], { senderId });
    expect((await draft()).senderId).not.toBe(senderId);
    await discardLetter(world.ctx, newsletter, id);
    await expect(draft()).rejects.toMatchObject({ code: 'not-found' });
    await world.readers(newsletter, ['ada@heronmail.example']);
    await world.lets(newsletter, copy.id, '2026-11-25T07:00');
    await expect(discardLetter(world.ctx, newsletter, copy.id)).rejects.toMatchObject({ code: 'conflict' });
  });
});

describe('a proof', () => {
  it('goes as readers get it, marked over it and not in its subject, with real links that do not count', async () => {
    await save(
      [
        {
          kind: 'paragraph',
          inline: [
            { kind: 'text', text: 'Good morning, ' },
            { kind: 'chip', field: 'first_name', fallback: 'reader & friend' },
          ],
        },
        { kind: 'button', label: 'Look', href: 'https://saltmarsh.example/a?b=1&c=2' },
      ],
      { title: 'The lamp-fish census' },
    );
    const { said } = await sendProof(world.ctx, newsletter, OTTO, id, {
      to: 'otto@heronmail.example, pia@postbird.example;otto@heronmail.example',
    });
    expect(said).toContain('otto@heronmail.example, pia@postbird.example');
    await world.work();
    expect(world.mail.to('otto@heronmail.example')).toHaveLength(1);
    const mail = await simpleParser(world.mail.to('pia@postbird.example')[0]!.source);
    expect(mail.subject).toBe('The lamp-fish census');
    expect(mail.text).toContain('| A proof, asked for by Ottoline Vance.');
    expect(mail.text).toContain('Good morning, reader & friend');
    expect(String(mail.html)).toContain('reader &amp; friend');
    expect(String(mail.html)).toContain('href="https://saltmarsh.example/a?b=1&amp;c=2"');
    expect(String(mail.html)).not.toMatch(/\/e\/(o|c)\//);
    expect(String(mail.html)).not.toMatch(/[\ue000\ue001]/);
    expect(mail.text).not.toMatch(/[\ue000\ue001]/);
    expect(mail.headers.get('dkim-signature')).toBeTruthy();
    expect((await letterOf(world.ctx, newsletter, id)).counts).toMatchObject({ recipients: 0, delivered: 0 });
    await expect(sendProof(world.ctx, newsletter, OTTO, id, { to: 'nobody' })).rejects.toMatchObject({
      fields: { to: expect.anything() },
    });
    await expect(
      sendProof(world.ctx, newsletter, OTTO, id, {
        to: 'a@b.example b@b.example c@b.example d@b.example e@b.example f@b.example',
      }),
    ).rejects.toMatchObject({ code: 'invalid' });
    await world.ctx.db.updateTable('senders').set({ confirmed_at: null }).execute();
    await expect(sendProof(world.ctx, newsletter, OTTO, id, { to: 'a@heronmail.example' })).rejects.toMatchObject({
      code: 'conflict',
    });
  });
});
