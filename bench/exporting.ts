import { sql } from 'kysely';
import pino from 'pino';
import { EVERYONE } from '@/core/readers/view';
import { systemClock } from '@/server/clock/clock';
import { readConfig } from '@/server/config';
import type { Context } from '@/server/context';
import type { Db } from '@/server/db/connection';
import { exportsOf, startExport, workExport } from '@/server/transfer/exports';
import { benchNewsletter } from './newsletter';
import { benchEnv, outsideResolver } from './outside';
import type { Figure } from './report';

const READERS = 1_000_000;

/** A million readers written as CSV by a worker, part by part; beside it one COPY TO of the same columns by the server into a file. */
export async function exporting(db: Db, databaseUrl: string): Promise<Figure[]> {
  const config = readConfig(benchEnv(databaseUrl));
  const ctx: Context = { db, clock: systemClock, config, log: pino({ level: 'error' }), resolver: outsideResolver() };
  const newsletter = await benchNewsletter(ctx, 'Bench');
  const { id: list } = await db
    .selectFrom('lists')
    .select('id')
    .where('newsletter_id', '=', newsletter.id)
    .executeTakeFirstOrThrow();
  await db.transaction().execute(async (trx) => {
    await sql`set local inkset.bringing = 'on'`.execute(trx);
    await sql`
      insert into readers (id, newsletter_id, address, address_key, domain_id, first_name, lists_reading, confirmed, created_on, created_at)
      select gen_random_uuid(), ${newsletter.id}, 'reader' || n || '@heronmail.example', 'reader' || n || '@heronmail.example', mail_domain('a@heronmail.example'), 'Ada', 1, true, current_date, now()
      from generate_series(1, ${READERS}) n`.execute(trx);
    await sql`insert into memberships (reader_id, list_id, newsletter_id, state, since, joined_at) select id, ${list}, newsletter_id, 'reading', now(), now() from readers where newsletter_id = ${newsletter.id}`.execute(
      trx,
    );
    await sql`insert into reader_tags (reader_id, newsletter_id, tag, at) select id, newsletter_id, 'diver', now() from readers where newsletter_id = ${newsletter.id} and hashtext(id::text) % 4 = 0`.execute(
      trx,
    );
  });
  await sql`vacuum analyze readers, memberships, reader_tags`.execute(db);
  const seconds = async (work: () => Promise<unknown>) => {
    const began = performance.now();
    await work();
    return (performance.now() - began) / 1_000;
  };
  const yardstickValue = await seconds(() =>
    sql`copy (select r.address, r.first_name, r.standing,
        (select string_agg(l.name, ', ' order by l.position, l.created_at) from memberships m join lists l on l.id = m.list_id where m.reader_id = r.id and m.state = 'reading'),
        (select string_agg(t.tag, ', ' order by t.tag) from reader_tags t where t.reader_id = r.id), (select min(m.joined_at) from memberships m where m.reader_id = r.id)
      from readers r where r.newsletter_id = ${sql.lit(newsletter.id)}) to program 'cat > /dev/null' (format csv)`.execute(db),
  );
  const columns = ['address', 'first name', 'state', 'lists', 'tags', 'agreed'];
  const { id } = await startExport(
    ctx,
    newsletter,
    { name: 'Bench', email: 'bench@postbird.example' },
    { kind: 'csv', columns, whom: { condition: EVERYONE, find: '' } },
  );
  const value = await seconds(() => workExport(ctx, id));
  const [done] = await exportsOf(ctx, newsletter);
  if (done?.done !== READERS) throw new Error(`Not all of them are in it: ${JSON.stringify(done)}`);
  return [
    {
      name: 'a million readers written',
      value,
      unit: 's',
      yardstick: 'COPY TO of the same columns',
      yardstickValue,
      aim: { atMost: 3 * yardstickValue },
    },
  ];
}
