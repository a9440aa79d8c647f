import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import type { Answer, FieldKind } from '@/core/forms/fields';
import type { SourceClass, Touch } from '@/core/growth/attribution';
import { howManyOf } from '@/core/readers/condition';
import type { ConsentAct, ConsentActor, ReaderState, SuppressionReason } from '@/core/readers/state';
import { LETTERS } from '@/core/readers/warmth';
import type { Context, Newsletter } from '../context';

export type Totals = { reading: number; waiting: number; left: number; unreachable: number };

/** How many people stand where. `reading` counts only addresses that can be reached; the others are `unreachable`. */
export async function totalsOf(ctx: Context, newsletter: Newsletter): Promise<Totals> {
  const row = await ctx.db
    .selectFrom('people_totals')
    .select(['reading', 'waiting', 'left_count as left', 'unreachable'])
    .where('newsletter_id', '=', newsletter.id)
    .where('kind', '=', 'all')
    .executeTakeFirst();
  return row ?? { reading: 0, waiting: 0, left: 0, unreachable: 0 };
}

export type ReaderProfile = {
  id: string;
  address: string;
  firstName: string | null;
  addressState: 'fine' | 'bouncing' | 'unreachable' | 'suppressed';
  joinedAt: Date;
  source: string | null;
  /** The file that brought them. */
  file: string | null;
  page: string | null;
  referrer: string | null;
  /** How they came: the kind of way, its name, and the visits that first and last led to the sign-up. */
  way: {
    kind: SourceClass;
    name: string;
    first: Touch | null;
    last: Touch | null;
    placement: string | null;
    version: string | null;
  };
  answers: { id: string; label: string; kind: FieldKind; options: string[]; value: Answer }[];
  tags: string[];
  lists: { id: string; name: string; state: ReaderState; since: Date }[];
  note: string;
  /** What they chose for themselves. */
  pausedUntil: Date | null;
  textAlone: boolean;
  zone: string | null;
  standing: 'reading' | 'waiting' | 'left' | 'unreachable' | 'none';
  /** May a member lift what suppressed them? */
  suppressedBy: SuppressionReason | null;
  /** Their letters: how many they got, and of the last two dozen how many they read, followed links of, and only a machine opened. */
  letters: { got: number; last: number; read: number; clicked: number; hidden: number };
  warmth: number | null;
  history: { at: Date; text: string; detail: string | null }[];
};

/** One reader: where they stand, where they came from, and what happened, newest first. */
export async function readerProfile(ctx: Context, newsletter: Newsletter, id: string): Promise<ReaderProfile> {
  const reader = await ctx.db
    .selectFrom('readers as r')
    .leftJoin('forms as f', 'f.id', 'r.source_form_id')
    .selectAll('r')
    .leftJoin('imports as i', 'i.id', 'r.source_import_id')
    .select(['f.name as source', 'i.name as file'])
    .where('r.newsletter_id', '=', newsletter.id)
    .where('r.id', '=', id)
    .executeTakeFirst();
  if (!reader) throw new Fault('not-found', 'There is no such reader.');
  const lists = await ctx.db
    .selectFrom('memberships as m')
    .innerJoin('lists', 'lists.id', 'm.list_id')
    .select(['lists.id', 'lists.name', 'm.state', 'm.since'])
    .where('m.reader_id', '=', reader.id)
    .orderBy('lists.position')
    .execute();
  const consents = await ctx.db
    .selectFrom('consents as c')
    .leftJoin('forms as f', 'f.id', 'c.form_id')
    .select([
      'c.at',
      'c.act',
      'c.state',
      'c.page',
      'c.wording',
      'c.network',
      'c.actor',
      'c.actor_name',
      'c.list_name as list',
      'f.name as form',
    ])
    .where('c.reader_id', '=', reader.id)
    .orderBy('c.at', 'desc')
    .limit(100)
    .execute();
  const deliveries = await ctx.db
    .selectFrom('deliveries as d')
    .innerJoin('letters as l', 'l.id', 'd.letter_id')
    .select([
      'l.subject',
      'd.state',
      'd.delivered_at',
      'd.due_at',
      'd.opened_at',
      'd.opened_by_machine_at',
      'd.clicked_at',
      'd.response',
    ])
    .where('d.reader_id', '=', reader.id)
    .orderBy('d.due_at', 'desc')
    .limit(50)
    .execute();
  const answers = await ctx.db
    .selectFrom('fields')
    .leftJoin('reader_answers as a', (join) => join.onRef('a.field_id', '=', 'fields.id').on('a.reader_id', '=', reader.id))
    .select(['fields.id', 'fields.label', 'fields.kind', 'fields.options', 'a.value'])
    .where('fields.newsletter_id', '=', newsletter.id)
    .orderBy('fields.created_at')
    .orderBy('fields.key')
    .execute();
  const tags = await ctx.db.selectFrom('reader_tags').select('tag').where('reader_id', '=', reader.id).orderBy('tag').execute();
  const suppressed = await ctx.db
    .selectFrom('suppressions')
    .select('reason')
    .where('newsletter_id', '=', newsletter.id)
    .where('address_key', '=', reader.address_key)
    .executeTakeFirst();
  const last = Math.min(reader.letters_got, LETTERS);
  const [read, clicked, hidden] = [reader.recent_read, reader.recent_clicked, reader.recent_hidden].map((bits) =>
    BigInt(bits),
  ) as [bigint, bigint, bigint];
  const history = [
    ...consents.map((c) => ({
      at: c.at,
      text: consentText(c),
      detail: c.wording ? `${WORDING[c.act] ?? 'Shown: '}${c.wording.replace(/\n/g, ' / ')}` : c.page,
    })),
    ...deliveries.map((d) => ({
      at: d.delivered_at ?? d.due_at,
      text: `${DELIVERED[d.state]} “${d.subject}”${d.clicked_at ? ', followed a link' : d.opened_at ? ', read' : d.opened_by_machine_at ? ', opened by a machine' : ''}`,
      detail: d.state === 'delivered' ? null : d.response,
    })),
  ].sort((a, b) => b.at.getTime() - a.at.getTime());
  return {
    id: reader.id,
    address: reader.address,
    firstName: reader.first_name,
    addressState: reader.address_state,
    joinedAt: reader.created_at,
    source: reader.source,
    file: reader.file,
    page: reader.source_page,
    referrer: reader.source_referrer,
    way: {
      kind: reader.source_class,
      name: reader.source_name,
      first: reader.first_touch,
      last: reader.last_touch,
      placement: reader.source_placement,
      version: reader.source_variant,
    },
    answers: answers.map((answer) => ({ ...answer, value: answer.value ?? null })),
    note: reader.note,
    pausedUntil: reader.paused_until !== null && reader.paused_until > ctx.clock.now() ? reader.paused_until : null,
    textAlone: reader.text_alone,
    zone: reader.zone,
    standing: reader.standing,
    suppressedBy: suppressed?.reason ?? null,
    letters: {
      got: reader.letters_got,
      last,
      read: howManyOf(read, last),
      clicked: howManyOf(clicked, last),
      hidden: howManyOf(hidden & ~(read | clicked), last),
    },
    warmth: reader.warmth < 0 ? null : reader.warmth,
    tags: tags.map(({ tag }) => tag),
    lists,
    history,
  };
}

const DELIVERED = {
  kept: 'Waits for the end of a test of',
  queued: 'Waits for',
  claimed: 'Is being sent',
  delivered: 'Got',
  bounced: 'Could not get',
  refused: 'Was refused',
  'given up': 'Could not be reached with',
  cancelled: 'Was not to get any more',
} as const;

/** What the words of an entry are, where they are not what was shown. */
const WORDING: Partial<Record<ConsentAct, string>> = { leave: 'Because: ', add: '', pause: '' };

/** What a record of consent tells, with who did it where that was not the reader. */
function consentText(c: {
  act: ConsentAct;
  list: string | null;
  form: string | null;
  actor: ConsentActor;
  actor_name: string | null;
}): string {
  const on = c.form ? ` on the form “${c.form}”` : '';
  const by =
    c.actor === 'member'
      ? ` by ${c.actor_name}`
      : c.actor === 'import'
        ? ` by the file “${c.actor_name}”`
        : c.actor === 'api'
          ? ' by a program'
          : '';
  const words: Record<ConsentAct, string> = {
    ask: `Asked for ${c.list}${on}`,
    confirm: `Confirmed ${c.list}`,
    leave: `Left ${c.list}`,
    return: `Took back leaving ${c.list}`,
    bounce: 'The mailbox does not exist',
    complaint: 'Complained',
    add: `Put on ${c.list}${by}`,
    'take off': `Taken off ${c.list}${by}`,
    stay: 'Said that they want to go on reading',
    suppress: `Suppressed${by}`,
    allow: `Allowed again${by}`,
    erase: `Erased${by}`,
    pause: 'Asked for a pause',
    'go on': 'Ended their pause',
    move: 'Moved to another address',
  };
  return words[c.act];
}

/** A newsletter's lists that are in use, with their counts, in their order. */
export async function listsOf(ctx: Context, newsletter: Newsletter) {
  const rows = await ctx.db
    .selectFrom('lists')
    .leftJoin('people_totals as t', (join) =>
      join
        .onRef('t.newsletter_id', '=', 'lists.newsletter_id')
        .on('t.kind', '=', 'list')
        .on(sql<boolean>`t.key = lists.id::text`),
    )
    .where('lists.newsletter_id', '=', newsletter.id)
    .where('lists.archived_at', 'is', null)
    .select(['lists.id', 'lists.name', 'lists.public_name as publicName', 'lists.double_opt_in as doubleOptIn', 't.reading'])
    .orderBy('lists.position')
    .orderBy('lists.created_at')
    .execute();
  return rows.map((row) => ({ ...row, reading: row.reading ?? 0 }));
}
