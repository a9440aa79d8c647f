import Joi from 'joi';
import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import { localDay } from '@/core/growth/days';
import { type Condition, conditionSchema, expand, leavesOf, type Missing } from '@/core/readers/condition';
import { check, ownName } from '../check';
import type { Context, Newsletter } from '../context';
import { inTransaction } from '../db/connection';
import { newId } from '../ids';
import { knownOf } from './conditions';
import { howMany } from './table';

export type Segment = {
  id: string;
  name: string;
  condition: Condition;
  /** How many it held when it was last counted; null before the first time. */
  people: number | null;
  sizes: { day: string; people: number }[];
  /** What it names that is not there any more: it holds nobody then. */
  missing: Missing[];
  /** The names of the letters and other segments that need it. */
  usedBy: string[];
};

const MOST_SEGMENTS = 200;
const MOST_DAYS = 400;

/** The saved segments of a newsletter, by name, with their sizes over time. */
export async function segmentsOf(ctx: Context, newsletter: Newsletter): Promise<Segment[]> {
  const rows = await ctx.db
    .selectFrom('segments')
    .selectAll()
    .where('newsletter_id', '=', newsletter.id)
    .orderBy(sql`lower(name)`)
    .execute();
  if (rows.length === 0) return [];
  const ids = rows.map((row) => row.id);
  const [known, sizes, letters, rules] = await Promise.all([
    knownOf(ctx.db, newsletter.id, []),
    ctx.db
      .selectFrom('segment_sizes')
      .selectAll()
      .where('segment_id', 'in', ids)
      .orderBy('day', 'desc')
      .limit(ids.length * MOST_DAYS)
      .execute(),
    sql<{ id: string; subject: string }>`
      select distinct s.id, l.subject from letters l cross join segments s
      where l.newsletter_id = ${newsletter.id} and s.newsletter_id = l.newsletter_id and l.state in ('draft', 'scheduled', 'held', 'starting')
        and (position(s.id::text in l.audience::text) > 0
             or exists (select 1 from posts p where p.id = l.post_id and position(s.id::text in p.document::text) > 0))
      order by 2`.execute(ctx.db),
    ctx.db
      .selectFrom('auto_sends')
      .select(['name', 'audience'])
      .where('newsletter_id', '=', newsletter.id)
      .orderBy('name')
      .execute(),
  ]);
  return rows.map((row) => {
    const own = sizes.filter((size) => size.segment_id === row.id).reverse();
    return {
      id: row.id,
      name: row.name,
      condition: row.condition,
      people: own.at(-1)?.people ?? null,
      sizes: own.map(({ day, people }) => ({ day, people })),
      missing: expand({ kind: 'segment', id: row.id }, known).missing,
      usedBy: [
        ...letters.rows.filter((letter) => letter.id === row.id).map((letter) => `the letter “${letter.subject}”`),
        ...rules.filter((rule) => JSON.stringify(rule.audience).includes(row.id)).map((rule) => `the auto-send “${rule.name}”`),
        ...rows
          .filter((other) => other.id !== row.id && names(other.condition, row.id))
          .map((other) => `the segment “${other.name}”`),
      ],
    };
  });
}

const names = (condition: Condition, segmentId: string) =>
  leavesOf(condition).some((leaf) => leaf.kind === 'segment' && leaf.id === segmentId);

const schema = Joi.object<{ name: string; condition: Condition }>({
  name: ownName(),
  condition: conditionSchema.required(),
});

/** Keeps a segment under a name of its own, or changes one. Throws "invalid" or "conflict" for a name that is taken or a segment that would name itself. */
export async function keepSegment(
  ctx: Context,
  newsletter: Newsletter,
  id: string | null,
  raw: unknown,
): Promise<{ id: string }> {
  const { name, condition } = check(schema, raw);
  const now = ctx.clock.now();
  return inTransaction(ctx.db, async (trx) => {
    const rows = await trx
      .selectFrom('segments')
      .select(['id', 'name'])
      .where('newsletter_id', '=', newsletter.id)
      .forUpdate()
      .execute();
    if (rows.some((row) => row.id !== id && row.name.toLowerCase() === name.toLowerCase()))
      throw new Fault('conflict', `There is a segment “${name}” already.`, { name: 'Taken already.' });
    if (id && !rows.some((row) => row.id === id)) throw new Fault('not-found', 'There is no such segment any more.');
    if (!id && rows.length >= MOST_SEGMENTS) throw new Fault('invalid', `At most ${MOST_SEGMENTS} segments can be kept.`);
    const segmentId = id ?? newId();
    const known = await knownOf(trx, newsletter.id, [condition]);
    const with_ = { ...known, segments: new Map([...known.segments, [segmentId, { name, condition }]]) };
    if (expand({ kind: 'segment', id: segmentId }, with_).missing.includes('circle'))
      throw new Fault('invalid', 'This would make the segment a part of itself.');
    const values = { name, condition: JSON.stringify(condition), updated_at: now };
    await trx
      .insertInto('segments')
      .values({ id: segmentId, newsletter_id: newsletter.id, created_at: now, ...values })
      .onConflict((c) => c.column('id').doUpdateSet(values))
      .execute();
    return { id: segmentId };
  });
}

/** Lets go of a segment that nothing needs; throws "conflict" saying what does. The people in it are not touched. */
export async function removeSegment(ctx: Context, newsletter: Newsletter, id: string): Promise<void> {
  const segment = (await segmentsOf(ctx, newsletter)).find((one) => one.id === id);
  if (!segment) throw new Fault('not-found', 'There is no such segment any more.');
  if (segment.usedBy.length)
    throw new Fault('conflict', `“${segment.name}” is needed by ${segment.usedBy.join(', ')}. Change that first.`);
  await ctx.db.deleteFrom('segments').where('id', '=', id).where('newsletter_id', '=', newsletter.id).execute();
}

/** Counts every segment of a newsletter for its local day; a second time that day the later count holds. */
export async function measureSegments(ctx: Context, newsletterId: string): Promise<void> {
  const newsletter = await ctx.db.selectFrom('newsletters').selectAll().where('id', '=', newsletterId).executeTakeFirst();
  if (!newsletter) return;
  const segments = await ctx.db
    .selectFrom('segments')
    .select(['id', 'condition'])
    .where('newsletter_id', '=', newsletter.id)
    .execute();
  const day = localDay(ctx.clock.now(), newsletter.time_zone);
  for (const { id, condition } of segments) {
    const people = await howMany(ctx, newsletter, { find: '', condition });
    await sql`insert into segment_sizes (segment_id, day, people) select id, ${day}::date, ${people} from segments where id = ${id}
      on conflict (segment_id, day) do update set people = excluded.people`.execute(ctx.db);
  }
}
