import { sql } from 'kysely';
import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest';
import { migrate } from '@/server/db/migrate';
import { TestWorld } from './world';

let world: TestWorld;
beforeAll(async () => {
  world = await TestWorld.open();
});
afterAll(() => world.close());

describe('bringing the schema forward', () => {
  it('reads no other schema once everything stands, so that a job queue may alter its own meanwhile', async () => {
    const reading = vi.spyOn(world.ctx.db, 'introspection', 'get').mockImplementation(() => {
      throw new Error('column "job_count" of relation "job_queues" does not exist');
    });
    await Promise.all(Array.from({ length: 4 }, () => migrate(world.ctx.db)));
    expect(reading).not.toHaveBeenCalled();
    reading.mockRestore();
  });
  it('says so when the database has been brought further than this program knows', async () => {
    await sql`insert into kysely_migration (name, timestamp) values ('9999-later', '2026-11-25T09:00:00Z')`.execute(world.ctx.db);
    await expect(migrate(world.ctx.db)).rejects.toThrow('9999-later');
  });
});
