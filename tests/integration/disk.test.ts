import { chmodSync, existsSync, mkdirSync, mkdtempSync, readdirSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { sql } from 'kysely';
import sharp from 'sharp';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { countUses } from '@/server/limits';
import { keepGift, keepLogo, keepPicture, takeInAsked } from '@/server/newsletters/media';
import { openHome, writeState } from '../../cli/home';
import { removeHome, startPostgres, stopPostgres } from '../../cli/postgres';
import { TestWorld } from './world';

let world: TestWorld;
beforeAll(async () => {
  world = await TestWorld.open();
});
afterAll(() => world.close());

/** Everything under a folder that somebody else than its owner could open. */
function open(dir: string): string[] {
  const own = statSync(dir).mode & 0o077 ? [dir] : [];
  if (!statSync(dir).isDirectory()) return own;
  return [...own, ...readdirSync(dir).flatMap((name) => open(join(dir, name)))];
}

describe('what lies on the disk is its owner’s alone', () => {
  it('the state folder, also one that stood open', () => {
    const dir = join(mkdtempSync(join(tmpdir(), 'inkset-home-')), 'home');
    mkdirSync(dir);
    chmodSync(dir, 0o755);
    writeFileSync(join(dir, 'world.json'), '{}', { mode: 0o644 });
    chmodSync(join(dir, 'world.json'), 0o644);
    const before = process.umask();
    const home = openHome(dir);
    writeState(home, 'ports.json', { web: 1 });
    writeFileSync(join(dir, 'logs', 'web.log'), 'x');
    expect(process.umask(before)).toBe(0o077);
    expect(open(dir)).toEqual([]);
  });
  it('a database whose state folder is gone is moved aside whole, and a new one made', async () => {
    const dir = join(mkdtempSync(join('/var/tmp', 'inkset-home-')), 'home');
    const first = await startPostgres(openHome(dir));
    stopPostgres(openHome(dir), 'immediate');
    rmSync(dir, { recursive: true });
    const said: string[] = [];
    const log = vi.spyOn(console, 'log').mockImplementation((text: string) => void said.push(text));
    const second = await startPostgres(openHome(dir));
    log.mockRestore();
    try {
      if (existsSync(first.dir) && first.dir.startsWith(dir)) return;
      const aside = /moved to (\S+),/.exec(said.join('\n'))![1]!;
      expect(existsSync(join(aside, 'PG_VERSION'))).toBe(true);
      expect(second.dir).toBe(first.dir);
      rmSync(aside, { recursive: true });
    } finally {
      removeHome(openHome(dir));
    }
  }, 180_000);
  it('pictures and gifts, whatever the process that writes them was told', async () => {
    const before = process.umask(0o022);
    const newsletter = await world.newsletter();
    const png = await sharp({ create: { width: 8, height: 8, channels: 3, background: '#123456' } })
      .png()
      .toBuffer();
    await keepLogo(world.ctx, newsletter, new File([new Uint8Array(png)], 'logo.png', { type: 'image/png' }));
    await keepGift(world.ctx, newsletter, new File(['words'], 'gift.txt'));
    process.umask(before);
    expect(readdirSync(world.ctx.config.mediaDir)).toHaveLength(2);
    expect(open(world.ctx.config.mediaDir)).toEqual([]);
  });
  it('and of what cannot be written down nothing is left: no row, no half file, and a sentence', async () => {
    const newsletter = await world.newsletter('Full disk');
    const { ctx } = world;
    const bytes = new Uint8Array(
      await sharp({ create: { width: 8, height: 8, channels: 3, background: '#123456' } })
        .png()
        .toBuffer(),
    );
    const rows = async () => (await ctx.db.selectFrom('media').select('id').execute()).length;
    const before = await rows();
    // Nothing can be made within a file: for whoever writes it is the same as a disk without room.
    const full = { ...ctx, config: { ...ctx.config, mediaDir: '/dev/full/media' } };
    for (const keeping of [
      () => keepPicture(full, newsletter, new File([bytes], 'reef.png')),
      () => keepLogo(full, newsletter, new File([bytes], 'logo.png')),
      () => keepGift(full, newsletter, new File(['words'], 'gift.txt')),
    ])
      await expect(keeping()).rejects.toMatchObject({
        code: 'unavailable',
        sentence: expect.stringContaining('Nothing was changed'),
      });
    expect(await rows()).toBe(before);
    expect((await keepPicture(ctx, newsletter, new File([bytes], 'reef.png'))).url).toMatch(/\.png$/);
  });
  it('pictures are fetched from addresses so many times an hour and no more', async () => {
    const newsletter = await world.newsletter('Fetching');
    await countUses(
      world.ctx,
      Array.from({ length: 1_000 }, () => ({ key: `pictures:${newsletter.id}`, seconds: 3_600 })),
    );
    await expect(takeInAsked(world.ctx, newsletter, 'https://a.example/p.png')).rejects.toMatchObject({ code: 'too-many' });
  });
  it('a drawing that is made never to end is refused with a sentence', async () => {
    const uses = Array.from({ length: 12 }, (_, n) => `<g id="g${n + 1}">${`<use href="#g${n}"/>`.repeat(12)}</g>`).join('');
    const svg = `<svg xmlns="http://www.w3.org/2000/svg" width="50" height="50"><defs><g id="g0"><rect width="9" height="9"/></g>${uses}</defs><use href="#g12"/></svg>`;
    const newsletter = await world.newsletter('Drawing');
    await expect(keepLogo(world.ctx, newsletter, new File([svg], 'logo.svg', { type: 'image/svg+xml' }))).rejects.toMatchObject({
      code: 'invalid',
      sentence: expect.stringContaining('no picture we can read'),
    });
  }, 300_000);
  it('and the application is a plain role in its own database', async () => {
    const { rows } = await sql<{ super: boolean; makes: boolean }>`
      select rolsuper as super, rolcreatedb or rolcreaterole as makes from pg_roles where rolname = current_user`.execute(
      world.ctx.db,
    );
    expect(rows).toEqual([{ super: false, makes: false }]);
    await expect(sql`copy (select 1) to program 'true'`.execute(world.ctx.db)).rejects.toThrow(/superuser|pg_execute/);
  });
});
