import { type Kysely, sql } from 'kysely';
import { STARTING_LOOK } from '@/core/writing/look';

/** Layouts with a look, one of them the usual one; posts as pages; a letter's own text. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql
    .raw(`
alter table layouts add is_default boolean not null default false;
update layouts l set is_default = true where l.id = (select f.id from layouts f where f.newsletter_id = l.newsletter_id order by f.updated_at, f.id limit 1);
create unique index layouts_default on layouts (newsletter_id) where is_default;

alter table posts
  add goes text not null default 'letter' check (goes in ('both', 'letter', 'page')), -- what becomes of it: a letter, a page, or both
  add audience text not null default 'everybody' check (audience in ('everybody', 'readers')), -- who reads the whole page
  add topics text[] not null default '{}',
  add picture_alt text not null default '',
  add description text not null default '',
  add canonical text,                       -- where it stood first, if that is elsewhere
  add author text not null default '',
  add guest text not null default '',
  add published_at timestamptz;             -- since when its page can be read; null: it cannot
create index posts_published on posts (newsletter_id, published_at desc, id desc) where published_at is not null;
create index posts_topics on posts using gin (topics) where published_at is not null;
-- Where a page stood before: whoever comes there is led on.
create table post_slugs (
  newsletter_id uuid not null references newsletters on delete cascade,
  slug text not null,
  post_id uuid not null references posts on delete cascade,
  primary key (newsletter_id, slug)
);
create index on post_slugs (post_id);

alter table letters
  add archived_at timestamptz,
  add own_text text,                        -- the text part as its writer wrote it; null: as the letter says
  add own_text_of text;                     -- what the letter said then, as a hash
`)
    .execute(db);
  await sql`update layouts set layout = layout || jsonb_build_object('look', ${JSON.stringify(STARTING_LOOK)}::jsonb) where not layout ? 'look'`.execute(
    db,
  );
}
