import { sql } from 'kysely';
import { Fault } from '@/core/faults';
import { counted } from '@/core/growth/figures';
import { isSigned, signText } from '@/core/keys';
import { type CalendarEntry, calendarOf } from '@/core/sending/calendar';
import { hasBegun, type LetterState } from '@/core/sending/letter-state';
import { lineForAll } from '@/core/writing/line';
import type { Context, Newsletter } from '../context';

/** So long a letter that left stays in the calendar. */
const PAST_DAYS = 60;
const MOST = 300;

const said = (id: string, turn: number) => `${id}.${turn}`;

/** The private address of a newsletter's runway as a calendar; null while there is none. Nothing of it is kept: it is signed, and each new one ends the one before. */
export function calendarAddress(
  ctx: Pick<Context, 'config'>,
  { id, calendar_open, calendar_turn }: Pick<Newsletter, 'id' | 'calendar_open' | 'calendar_turn'>,
): string | null {
  if (!calendar_open) return null;
  const text = said(id, calendar_turn);
  return `${ctx.config.linkOrigin}/e/runway/${text}.${signText(ctx.config.keys, 'calendar', text)}.ics`;
}

/** Gives the calendar an address, another one each time; or none, after which nobody reads it by the old. */
export async function openCalendar(ctx: Context, newsletter: Newsletter, open: boolean): Promise<void> {
  await sql`update newsletters set calendar_open = ${open}, calendar_turn = calendar_turn + 1 where id = ${newsletter.id}`.execute(
    ctx.db,
  );
}

/** The calendar behind an address. Throws "not-found" for one that is none, or no longer. */
export async function calendarFor(ctx: Context, token: string): Promise<string> {
  const gone = () => new Fault('not-found', 'There is no calendar at this address any more.');
  const [, id, turn, signature] = /^([0-9a-f-]{36})\.(\d{1,9})\.(\d{1,3}\.\w{1,64})\.ics$/.exec(token) ?? [];
  if (!id || !turn || !signature || !isSigned(ctx.config.keys, 'calendar', said(id, Number(turn)), signature)) throw gone();
  const newsletter = await ctx.db
    .selectFrom('newsletters')
    .select(['id', 'name', 'slug'])
    .where('id', '=', id)
    .where('calendar_open', '=', true)
    .where('calendar_turn', '=', Number(turn))
    .where('removed_at', 'is', null)
    .executeTakeFirst();
  if (!newsletter) throw gone();
  const now = ctx.clock.now();
  const { rows } = await sql<{
    id: string;
    subject: string;
    state: LetterState;
    due_at: Date;
    started_at: Date | null;
    cause: string | null;
    sender: string | null;
    recipients: number;
  }>`select l.id, l.subject, l.state, l.due_at, l.started_at, l.cause, s.name as sender, coalesce(c.recipients, 0) as recipients
    from (select * from letters where newsletter_id = ${newsletter.id} and state <> 'draft' and kind <> 'proof' and archived_at is null
          and due_at > ${new Date(now.getTime() - PAST_DAYS * 86_400_000)} order by due_at desc limit ${MOST}) l
    left join senders s on s.id = l.sender_id left join lateral (select recipients from letter_counts c where c.letter_id = l.id) c on true
    order by l.due_at`.execute(ctx.db);
  const entries = rows.map((row): CalendarEntry => {
    const begun = hasBegun(row.state);
    return {
      id: row.id,
      at: (begun && row.started_at) || row.due_at,
      title: lineForAll(row.subject) || 'A letter without a subject',
      words: [
        begun ? `To ${counted(row.recipients, 'person', 'people')}.` : null,
        row.sender && `From ${row.sender}.`,
        ['held', 'paused', 'stopped'].includes(row.state) ? row.cause : null,
      ]
        .filter(Boolean)
        .join('\n'),
      url: `${ctx.config.webOrigin}/desk/${newsletter.slug}/letters/${row.id}`,
      certain: row.state !== 'held' && row.state !== 'paused',
    };
  });
  return calendarOf(newsletter.name, entries, now);
}
