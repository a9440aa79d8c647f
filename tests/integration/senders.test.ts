import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { createNewsletter } from '@/server/newsletters/newsletters';
import { addDomain, checkDomain, domainOf } from '@/server/senders/domains';
import { addSender, proveSender, resendProof, sendersOf } from '@/server/senders/senders';
import { DAY, TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
beforeAll(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
});
afterAll(() => world.close());

const add = async (address: string) => addSender(world.ctx, newsletter, { name: 'Ottoline Vance', address });
const tokenTo = async (address: string) => {
  await world.work();
  return (await world.linkIn(address, '/sender/')).split('/').at(-1)!;
};
const state = async (id: string) => (await sendersOf(world.ctx, newsletter)).find((sender) => sender.id === id)?.state;

describe('a sender', () => {
  it('is pending until the mailed link is clicked, which may be clicked twice', async () => {
    const { id } = await add('letters@lanternfish.example');
    expect(await state(id)).toBe('pending');
    const token = await tokenTo('letters@lanternfish.example');
    await proveSender(world.ctx, token);
    await proveSender(world.ctx, token);
    expect(await state(id)).toBe('confirmed');
    await expect(resendProof(world.ctx, newsletter, id)).rejects.toMatchObject({ code: 'conflict' });
  });
  it('has a link that runs out after a day; a newer one takes its place; sending again is limited', async () => {
    const { id } = await add('field@lanternfish.example');
    const first = await tokenTo('field@lanternfish.example');
    world.clock.advance(DAY + 1000);
    await expect(proveSender(world.ctx, first)).rejects.toMatchObject({ code: 'expired' });
    await resendProof(world.ctx, newsletter, id);
    await expect(proveSender(world.ctx, first)).rejects.toMatchObject({ code: 'not-found' });
    await proveSender(world.ctx, await tokenTo('field@lanternfish.example'));
    expect(await state(id)).toBe('confirmed');
    const { id: other } = await add('desk@lanternfish.example');
    for (let n = 0; n < 5; n += 1) await resendProof(world.ctx, newsletter, other);
    await expect(resendProof(world.ctx, newsletter, other)).rejects.toMatchObject({ code: 'too-many' });
  });
  it('is refused when malformed or there already, with a sentence beside the field', async () => {
    await expect(add('letters.lanternfish.example')).rejects.toMatchObject({ fields: { address: expect.any(String) } });
    await expect(add('LETTERS@lanternfish.example')).resolves.toBeDefined();
    await expect(add('letters@lanternfish.example')).rejects.toMatchObject({ code: 'conflict' });
    await expect(
      resendProof(world.ctx, await world.newsletter('A stranger'), (await sendersOf(world.ctx, newsletter))[0]!.id),
    ).rejects.toMatchObject({ code: 'not-found' });
  });
});

describe('a domain', () => {
  it('is looked up at once, and a silent name server takes nothing away', async () => {
    const { id } = await addDomain(world.ctx, newsletter, ' https://Lanternfish.example./about ');
    await world.work();
    expect((await domainOf(world.ctx, newsletter, id)).state).toBe('incomplete');
    for (const record of (await domainOf(world.ctx, newsletter, id)).records) world.dns.records.set(record.name, [record.value]);
    expect((await checkDomain(world.ctx, id)).state).toBe('authenticated');
    world.dns.silent = true;
    const after = await checkDomain(world.ctx, id);
    expect(after.state).toBe('authenticated');
    expect(after.records[0]?.judgement?.sentence).toContain('did not answer');
    world.dns.silent = false;
    await expect(addDomain(world.ctx, newsletter, 'lanternfish.example')).rejects.toMatchObject({ code: 'conflict' });
    await expect(addDomain(world.ctx, newsletter, 'not a domain')).rejects.toMatchObject({ code: 'invalid' });
    await expect(domainOf(world.ctx, await world.newsletter('A stranger'), id)).rejects.toMatchObject({ code: 'not-found' });
  });
  it('keeps its private key sealed', async () => {
    const { private_key } = await world.ctx.db.selectFrom('domains').select('private_key').executeTakeFirstOrThrow();
    expect(private_key.toString('latin1')).not.toContain('PRIVATE KEY');
  });
});

describe('a newsletter', () => {
  it('gets a free public name, and faults beside each field', async () => {
    const again = await world.newsletter();
    expect(again.slug).not.toBe(newsletter.slug);
    await expect(
      createNewsletter(world.ctx, newsletter.owner, { name: '', postalAddress: 'x', timeZone: 'Mars/Base' }),
    ).rejects.toMatchObject({
      fields: { name: expect.any(String), postalAddress: expect.any(String), timeZone: expect.any(String) },
    });
  });
});
