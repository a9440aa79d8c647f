import { execFileSync } from 'node:child_process';
import { mkdtempSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { sql } from 'kysely';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { leaveToken } from '@/core/sending/token';
import { connect } from '@/server/db/connection';
import { migrate } from '@/server/db/migrate';
import { foldCounts, recount } from '@/server/jobs/tick';
import { totalsOf } from '@/server/readers/readers';
import { unseal } from '@/server/secrets';
import { leave } from '@/server/sending/leave';
import { letterOf } from '@/server/sending/views';
import { serverPrograms } from '../../cli/postgres';
import { admin } from './template';
import { TestWorld } from './world';

let world: TestWorld;
beforeAll(async () => {
  world = await TestWorld.open();
});
afterAll(() => world.close());

describe('a backup as docs/running.md takes it', () => {
  it('brings everything back on another server: readers, letters, counts, keys, and the links in letters long sent', async () => {
    const newsletter = await world.newsletter();
    const { senderId } = await world.sender(newsletter);
    const [reader] = await world.readers(
      newsletter,
      Array.from({ length: 30 }, (_, n) => `reader${n}@heronmail.example`),
    );
    const id = await world.letter(newsletter, senderId);
    await world.work();
    const before = await letterOf(world.ctx, newsletter, id);
    // While it is taken, counts lie unfolded and mail comes and goes, as in life.
    await sql`insert into people_changes (newsletter_id, kind, key, reading) values (${newsletter.id}, 'tag', 'x', 0)`.execute(
      world.ctx.db,
    );
    const programs = serverPrograms()!;
    const file = join(mkdtempSync(join(tmpdir(), 'inkset-backup-')), 'inkset.dump');
    const env = (url: URL) => ({ ...process.env, PGPASSWORD: url.password });
    const here = new URL(world.ctx.config.databaseUrl);
    const at = (url: URL) => ['-h', url.hostname, '-p', url.port, '-U', url.username];
    execFileSync(join(programs, 'pg_dump'), [...at(here), '-Fc', '-f', file, here.pathname.slice(1)], { env: env(here) });
    const name = `${here.pathname.slice(1)}_back`;
    await admin(world.server, `create database ${name} owner inkset`);
    execFileSync(join(programs, 'pg_restore'), [...at(here), '--no-owner', '--exit-on-error', '-j', '2', '-d', name, file], {
      env: env(here),
    });
    const { db } = connect(`${world.server.app}/${name}`, () => {});
    const ctx = { ...world.ctx, db };
    try {
      await migrate(db);
      expect((await letterOf(ctx, newsletter, id)).counts).toEqual(before.counts);
      expect(await totalsOf(ctx, newsletter)).toEqual(await totalsOf(world.ctx, newsletter));
      await foldCounts(ctx);
      expect(await recount(ctx, newsletter)).toBe(0);
      const { private_key } = await db.selectFrom('domain_keys').select('private_key').executeTakeFirstOrThrow();
      expect(unseal(private_key, ctx.config.keys)).toContain('PRIVATE KEY');
      const token = leaveToken({ readerId: reader!, delivery: null }, 'leave', ctx.config.keys);
      expect((await leave(ctx, token, { network: '203.0.113.1', agent: 'A browser' })).state).toBe('left');
      expect(await totalsOf(ctx, newsletter)).toMatchObject({ reading: 29, left: 1 });
    } finally {
      await db.destroy();
      await admin(world.server, `drop database ${name} with (force)`);
    }
  });
});
