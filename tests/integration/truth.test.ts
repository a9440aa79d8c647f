import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { readRange } from '@/core/sending/result';
import type { Node } from '@/core/writing/document';
import { writeMarks } from '@/server/delivery/marks';
import { deliveryOf } from '@/server/delivery/standing';
import { letterOf } from '@/server/sending/views';
import { goneNotice, junkReport } from '../../backlot/mailboxes/notices';
import { BOX_ANSWERS, BOX_REASONS, comesOf, PROVIDERS, people } from '../../backlot/public/people';
import { comesBack } from './notices';
import { DAY, TestWorld } from './world';

/* A small public lives through some months of letters, and what the screens say is held against what it really did. */
const READERS = 500;
const LETTERS = 14;
const LINKS = 5;
/** From this letter on one provider puts six of ten letters into junk. */
const JUNKED = LETTERS - 4;
const JUNK_SHARE = 0.6;
const ALWAYS = 0.03;
const SOURCES = ['search.example', 'reefboard.example', 'direct'];

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
const public_ = people(4, READERS);
const truth: { id: string; read: number; clicked: number; reached: number; complaints: number }[] = [];
const gone = new Set<string>();

beforeAll(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
  const { senderId } = await world.sender(newsletter);
  for (const [n, source] of SOURCES.entries())
    await world.ctx.db
      .updateTable('readers')
      .set({ source_name: source })
      .where(
        'id',
        'in',
        await world.readers(
          newsletter,
          public_.filter((_, k) => k % SOURCES.length === n).map(({ address }) => address),
        ),
      )
      .execute();
  for (const { address, box } of public_) if (BOX_ANSWERS[box]) world.mail.answers.set(address, BOX_ANSWERS[box]!);
  const nodes: Node[] = [
    {
      kind: 'paragraph',
      inline: Array.from({ length: LINKS }, (_, n) => ({
        kind: 'text' as const,
        text: `link ${n} `,
        href: `https://saltmarsh.example/${n}`,
      })),
    },
  ];
  for (let n = 0; n < LETTERS; n += 1) {
    world.mail.taken.length = 0;
    const id = await world.letter(newsletter, senderId, { subject: `Letter ${n}`, nodes });
    await world.work();
    const rows = await world.ctx.db
      .selectFrom('deliveries')
      .select(['id', 'sent_on', 'address', 'state', 'delivered_at'])
      .where('letter_id', '=', id)
      .execute();
    const row = new Map(rows.map((one) => [one.address, one]));
    const said = { id, read: 0, clicked: 0, reached: 0, complaints: 0 };
    const marks = [];
    for (const person of public_) {
      const copy = row.get(person.address);
      if (copy?.state !== 'delivered') continue;
      const mail = world.mail.to(person.address).at(-1)!;
      const of = {
        returnPath: mail.from,
        recipient: person.address,
        host: `mx.${person.provider}`,
        date: world.clock.now(),
        original: mail.source,
      };
      if (person.box === 'dead later') {
        gone.add(person.address);
        expect(await comesBack(world.ctx, mail.from, goneNotice(of))).toBe('bounce');
        continue;
      }
      const came = comesOf(person, `letter ${n}`, {
        links: LINKS,
        inJunk: person.provider === 'fjordbox.example' && n >= JUNKED ? JUNK_SHARE : ALWAYS,
      });
      said.reached += 1;
      said.read += Number(came.read);
      said.clicked += Number(came.clicked);
      for (const { kind, afterSeconds, link, agent, network } of came.acts)
        marks.push({
          ref: { sentOn: copy.sent_on, id: BigInt(copy.id) },
          kind,
          at: new Date(copy.delivered_at!.getTime() + 1_000 * afterSeconds),
          link,
          agent,
          network,
          method: 'GET',
        });
      if (came.complains) {
        said.complaints += 1;
        await comesBack(world.ctx, mail.from, junkReport(of));
      }
    }
    // As they come in: in their order, some at a time.
    marks.sort((a, b) => a.at.getTime() - b.at.getTime());
    for (let from = 0; from < marks.length; from += 40) await writeMarks(world.ctx, marks.slice(from, from + 40));
    truth.push(said);
    world.clock.advance(7 * DAY);
    await world.work();
  }
}, 600_000);
afterAll(() => world.close());

describe('the screens, held against the truth', () => {
  it('say how many people read each letter, within three points; who clicked, exactly', async () => {
    for (const { id, read, clicked, reached } of truth) {
      const { counts } = await letterOf(world.ctx, newsletter, id);
      expect(counts.delivered).toBe(reached);
      const range = readRange(counts);
      expect(Math.abs(range.about - read) / reached).toBeLessThanOrEqual(0.03);
      expect(range.least <= read && read <= range.most).toBe(true);
      expect(counts.clicked).toBe(clicked);
    }
  });
  it('say of every copy that did not arrive why not', async () => {
    const boxes = new Map(public_.map(({ address, box }) => [address, box]));
    const failed = await world.ctx.db
      .selectFrom('deliveries')
      .select(['address', 'reason', 'state'])
      .where('state', 'in', ['bounced', 'refused', 'given up'])
      .execute();
    const wrong = failed.filter(({ address, reason }) => {
      const box = boxes.get(address)!;
      return box === 'well' || BOX_REASONS[box] !== reason;
    });
    expect(failed.length).toBeGreaterThan(40);
    expect(wrong).toEqual([]);
    expect(gone.size).toBeGreaterThan(2);
    const { reasons } = await deliveryOf(world.ctx, newsletter, 365);
    expect(reasons.reduce((sum, { ended }) => sum + ended, 0)).toBe(failed.length);
  });
  it('count each complaint', async () => {
    const all = truth.reduce((sum, { complaints }) => sum + complaints, 0);
    expect(all).toBeGreaterThan(2);
    const { standings, feedback } = await deliveryOf(world.ctx, newsletter, 365);
    expect(standings.reduce((sum, { copies }) => sum + copies.complained, 0)).toBe(all);
    expect(feedback).toEqual([{ kind: 'complaint', n: all }]);
  });
  it('find the provider that puts letters into junk, and how many, and no other', async () => {
    const { standings } = await deliveryOf(world.ctx, newsletter, 28);
    for (const provider of PROVIDERS) {
      const { junk } = standings.find(({ name }) => name === provider)!;
      // What always lay in junk is habit; the range is of what came to it.
      const is = provider === 'fjordbox.example' ? 1 - (1 - JUNK_SHARE) / (1 - ALWAYS) : 0;
      expect([provider, junk!.low <= is && is <= junk!.high]).toEqual([provider, true]);
    }
    expect(standings.filter(({ state }) => state === 'Puts letters into junk').map(({ name }) => name)).toEqual([
      'fjordbox.example',
    ]);
  });
  it('say by which source each came', async () => {
    const counted = await world.ctx.db
      .selectFrom('readers')
      .select(['source_name', (eb) => eb.fn.countAll<string>().as('n')])
      .groupBy('source_name')
      .execute();
    expect(counted.reduce((sum, row) => sum + Number(row.n), 0)).toBe(READERS);
    expect(Object.fromEntries(counted.map((row) => [row.source_name, Number(row.n)]))).toEqual(
      Object.fromEntries(SOURCES.map((source, n) => [source, public_.filter((_, k) => k % SOURCES.length === n).length])),
    );
  });
});
