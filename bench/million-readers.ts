import { sql } from 'kysely';
import type { Context, Newsletter } from '@/server/context';
import type { Db } from '@/server/db/connection';
import { createForm } from '@/server/forms/forms';
import { newId } from '@/server/ids';
import { prepareNewsletter } from './letter';
import { SMALL_DOMAINS } from './outside';

export const READERS = 1_000_000;
export const DAYS = 540;

/** A newsletter with a million readers: a long tail of domains, 18 months of joins, two lists, tags and consents. By statements that make many rows each, without triggers. */
export async function fillReaders(
  ctx: Context,
): Promise<{ newsletter: Newsletter; senderId: string; lists: string[]; forms: string[] }> {
  const { db } = ctx;
  const { newsletter, senderId } = await prepareNewsletter(ctx);
  const lists: string[] = [];
  for (const name of ['Thursday letters', 'Field notes']) {
    const id = newId();
    lists.push(id);
    await db
      .insertInto('lists')
      .values({ id, newsletter_id: newsletter.id, name, public_name: name, created_at: new Date() })
      .execute();
  }
  const forms: string[] = [];
  for (const name of ['After every article', 'Corner card', 'Footer'])
    forms.push((await createForm(ctx, newsletter, { name })).id);
  const of = newsletter.id;
  await quietly(db, async (trx) => {
    await sql`create function pg_temp.v7(at timestamptz, n bigint) returns uuid language sql immutable as
      $$ select (lpad(to_hex((extract(epoch from at) * 1000)::bigint), 12, '0') || '7' || substr(md5(n::text), 1, 3) || '8' || substr(md5(n::text), 4, 15))::uuid $$`.execute(
      trx,
    );
    await sql`insert into mail_domains (name, state, look_at)
      select case when n < 4 then (array['heronmail.example', 'postbird.example', 'kestrel.example', 'fjordbox.example'])[n + 1] else 'd' || (n - 4) || '.small.example' end, 'fine', 'infinity'
      from generate_series(0, ${SMALL_DOMAINS + 3}) n`.execute(trx);
    // More come later than early; each has a source, a page and a form, as they are in life: few large ones and many small.
    await sql`
      insert into readers (id, newsletter_id, address, address_key, domain_id, first_name, name_key, address_state, lists_reading, lists_waiting, lists_left, confirmed, last_sent_at, last_read_at,
        source_form_id, source_page, source_class, source_name, source_placement, source_language, last_touch, warmth, created_on, created_at)
      select pg_temp.v7(at, n), ${of}::uuid, who || n || '@' || d.name, who || n || '@' || d.name, d.id, initcap(who), who, case when n % 97 = 0 then 'suppressed' when n % 89 = 0 then 'bouncing' else 'fine' end,
        (n % 10 < 8)::int, (n % 10 = 8)::int, (n % 10 = 9)::int, n % 10 <> 8, now() - make_interval(days => n % 30), case when n % 3 = 0 then now() - make_interval(days => n % 90) end,
        (${forms}::uuid[])[1 + n % 3], 'https://lanternfish.example/posts/' || (n % 400), 'link', case when n % 5 < 3 then (array['direct', 'search.example', 'reefboard.example'])[1 + n % 3] else 'site' || (n % 300) || '.example' end,
        (array['panel', 'corner card', 'pop-up'])[1 + n % 3], 'en', case when n % 20 = 0 then jsonb_build_object('medium', 'social', 'campaign', 'c' || (n % 40)) end, (n::bigint * 7919 % 102)::int - 1, at::date, at
      from (select n, now() - interval '1 day' * (${DAYS} * (1 - sqrt(n / ${READERS}::float8))) as at, (array['mara', 'ilse', 'tomas', 'jorun', 'sunniva', 'aldous', 'odile', 'rufus'])[1 + n % 8] as who
            from generate_series(1, ${READERS}) n) g
      join mail_domains d on d.id = (select min(id) from mail_domains) + case when n % 5 < 2 then 4 + (n::bigint * 7919) % ${SMALL_DOMAINS} else n % 4 end`.execute(
      trx,
    );
    await sql`insert into memberships (reader_id, list_id, newsletter_id, state, since, joined_at)
      select r.id, (${lists}::uuid[])[l], r.newsletter_id, case when lists_reading > 0 then 'reading' when lists_waiting > 0 then 'waiting' else 'left' end, created_at, case when confirmed then created_at end
      from readers r cross join generate_series(1, 2) l where r.newsletter_id = ${of} and (l = 1 or hashtext(r.id::text) % 3 = 0)`.execute(
      trx,
    );
    await sql`insert into reader_tags select id, newsletter_id, 'tag' || (hashtext(id::text) % 10), created_at from readers where newsletter_id = ${of} and hashtext(id::text) % 3 = 0`.execute(
      trx,
    );
    await sql`insert into tags (newsletter_id, name) select distinct newsletter_id, tag from reader_tags where newsletter_id = ${of}`.execute(
      trx,
    );
    await sql`insert into consents (newsletter_id, reader_id, list_id, act, state, at, actor) select newsletter_id, reader_id, list_id, 'ask', 'waiting', since, 'reader' from memberships where newsletter_id = ${of}`.execute(
      trx,
    );
  });
  return { newsletter, senderId, lists, forms };
}

/** Loads many rows without the triggers that keep counts. */
const quietly = (db: Db, work: (trx: Db) => Promise<void>): Promise<void> =>
  db.transaction().execute(async (trx) => {
    await sql`set local session_replication_role = replica`.execute(trx);
    await work(trx);
  });
