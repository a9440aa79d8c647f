import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { confirm } from '@/server/forms/confirm';
import { readerProfile, totalsOf } from '@/server/readers/readers';
import { DAY, MINUTE, TestWorld } from './world';

const VISITOR = { network: '198.51.100.7', agent: 'A browser' };
let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
let form: Awaited<ReturnType<TestWorld['form']>>;

beforeAll(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
  form = await world.form(newsletter);
});
afterAll(() => world.close());

let count = 0;
const someone = () => `reader${++count}@heronmail.example`;
const send = (email: string, more: Record<string, string> = {}) =>
  world.signUps.join(
    form,
    { email, page: 'https://lanternfish.example/dim-map', ...more },
    { ...VISITOR, network: `198.51.100.${count}` },
  );
const tokenTo = async (address: string) => {
  await world.work();
  return (await world.linkIn(address, '/e/confirm/')).split('/').at(-1)!;
};
const stateOf = async (address: string) =>
  world.ctx.db
    .selectFrom('readers as r')
    .innerJoin('memberships as m', 'm.reader_id', 'r.id')
    .select(['r.id', 'm.state', 'r.address_state', 'r.source_page', 'r.source_referrer'])
    .where('r.address', '=', address)
    .executeTakeFirst();

describe('a form sent in', () => {
  it('makes a waiting reader with source and consent, and one confirmation letter', async () => {
    const address = someone();
    await send(address, { referrer: 'https://search.example/?q=lamp' });
    expect(await stateOf(address)).toMatchObject({
      state: 'waiting',
      source_page: 'https://lanternfish.example/dim-map',
      source_referrer: 'https://search.example/?q=lamp',
    });
    const token = await tokenTo(address);
    const consents = await world.ctx.db.selectFrom('consents').selectAll().execute();
    expect(consents.at(-1)).toMatchObject({ act: 'ask', state: 'waiting', agent: 'A browser' });
    expect(consents.at(-1)?.wording).toContain(form.definition.heading);
    await confirm(world.ctx, token, VISITOR);
    expect((await stateOf(address))?.state).toBe('reading');
    const profile = await readerProfile(world.ctx, newsletter, (await stateOf(address))!.id);
    expect(profile.history.map((entry) => entry.text)).toEqual([
      'Confirmed Everyone',
      'Asked for Everyone on the form “Sign-up page”',
    ]);
  });

  it('twice at once is one reader, one letter, and the same answer', async () => {
    const address = someone();
    await Promise.all([send(address), send(address), send(address.toUpperCase())]);
    await world.work();
    // Whichever came first is written to as it was typed.
    expect(world.mail.taken.filter((mail) => mail.to.toLowerCase() === address)).toHaveLength(1);
    const rows = await world.ctx.db.selectFrom('readers').select('id').where('address_key', '=', address).execute();
    expect(rows).toHaveLength(1);
  });

  it('again while waiting resends after ten minutes and not before', async () => {
    const address = someone();
    await send(address);
    world.clock.advance(5 * MINUTE);
    await send(address);
    await world.work();
    expect(world.mail.to(address)).toHaveLength(1);
    world.clock.advance(6 * MINUTE);
    await send(address);
    await world.work();
    expect(world.mail.to(address)).toHaveLength(2);
  });

  it('again while reading changes nothing, sends nothing and answers the same', async () => {
    const address = someone();
    await send(address);
    await confirm(world.ctx, await tokenTo(address), VISITOR);
    await world.work();
    // The confirmation, and the welcome letter that a newsletter's first form sends.
    expect(world.mail.to(address)).toHaveLength(2);
    world.clock.advance(DAY);
    await expect(send(address)).resolves.toBeTruthy();
    await world.work();
    expect(world.mail.to(address)).toHaveLength(2);
    expect((await stateOf(address))?.state).toBe('reading');
  });

  it('with a malformed address is a fault beside the field, and nothing is kept', async () => {
    await expect(send('not an address')).rejects.toMatchObject({
      code: 'invalid',
      fields: { email: expect.stringContaining('does not look like') },
    });
    await expect(send('')).rejects.toMatchObject({ fields: { email: 'Please type your email address.' } });
    expect(await stateOf('not an address')).toBeUndefined();
  });

  it('too often for one address is refused with a sentence', async () => {
    const address = someone();
    for (let n = 0; n < 6; n += 1) await send(address);
    await expect(send(address)).rejects.toMatchObject({ code: 'too-many' });
  });
});

describe('a confirmation link', () => {
  it('works twice and says the same', async () => {
    const address = someone();
    await send(address);
    const token = await tokenTo(address);
    await confirm(world.ctx, token, VISITOR);
    await expect(confirm(world.ctx, token, VISITOR)).resolves.toMatchObject({ newsletter: { name: 'Lanternfish Letters' } });
    const { reading } = await totalsOf(world.ctx, newsletter);
    expect(reading).toBeGreaterThan(0);
  });

  it('runs out after 30 days with the next step, and a new one brings them in', async () => {
    const address = someone();
    await send(address);
    const token = await tokenTo(address);
    world.clock.advance(31 * DAY);
    await expect(confirm(world.ctx, token, VISITOR)).rejects.toMatchObject({
      code: 'expired',
      sentence: expect.stringContaining('Sign up again'),
    });
    await send(address);
    await confirm(world.ctx, await tokenTo(address), VISITOR);
    expect((await stateOf(address))?.state).toBe('reading');
  });

  it('that is not ours is a fault, not an error', async () => {
    await expect(confirm(world.ctx, 'made-up', VISITOR)).rejects.toMatchObject({ code: 'not-found' });
  });

  it('used before they left does not bring anybody back', async () => {
    const address = someone();
    await send(address);
    const token = await tokenTo(address);
    await confirm(world.ctx, token, VISITOR);
    const { id } = (await stateOf(address))!;
    await world.ctx.db.updateTable('memberships').set({ state: 'left' }).where('reader_id', '=', id).execute();
    await confirm(world.ctx, token, VISITOR);
    expect((await stateOf(address))?.state).toBe('left');
  });

  it('clicked by the owner of a suppressed address lifts the suppression', async () => {
    const address = someone();
    const [id] = await world.readers(newsletter, [address]);
    await world.ctx.db.updateTable('readers').set({ address_state: 'suppressed' }).where('id', '=', id!).execute();
    await world.ctx.db.updateTable('memberships').set({ state: 'left' }).where('reader_id', '=', id!).execute();
    await world.ctx.db
      .insertInto('suppressions')
      .values({ newsletter_id: newsletter.id, address_key: address, reason: 'complaint', at: world.clock.now(), detail: null })
      .execute();
    await send(address);
    await confirm(world.ctx, await tokenTo(address), VISITOR);
    expect(await stateOf(address)).toMatchObject({ state: 'reading', address_state: 'fine' });
    expect(await world.ctx.db.selectFrom('suppressions').select('reason').where('address_key', '=', address).execute()).toEqual(
      [],
    );
  });
});
