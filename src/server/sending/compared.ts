import { sql } from 'kysely';
import { csvRow } from '@/core/importing/rows';
import type { ComparedLetter } from '@/core/sending/compare';
import { readRange } from '@/core/sending/result';
import { lineForAll } from '@/core/writing/line';
import type { Context, Newsletter } from '../context';

/* Letters held against each other. */

/** More are in the download. */
export const MOST_COMPARED = 500;

/** A newsletter's letters that have left, the latest first. */
export async function lettersCompared(ctx: Context, newsletter: Newsletter, most = MOST_COMPARED): Promise<ComparedLetter[]> {
  const { rows } = await sql<
    Omit<ComparedLetter, 'read' | 'clicked'> & {
      opens: boolean;
      clicks: boolean;
      people: number;
      machines: number;
      hidden: number;
      clicked: number;
    }
  >`
    select l.id, l.subject, l.started_at as at, l.counts_opens as opens, l.counts_clicks as clicks, l.again_of is not null as again,
      1 + (select count(*)::int from letter_versions v where v.letter_id = l.id) as versions, coalesce(c.recipients, 0) as recipients, coalesce(c.delivered, 0) as delivered,
      coalesce(c.opened_people, 0) as people, coalesce(c.opened_machines, 0) as machines, coalesce(c.hidden, 0) as hidden, coalesce(c.clicked, 0) as clicked, coalesce(c.left_count, 0) as left,
      coalesce(c.complained, 0) as complained, coalesce(c.bounced + c.refused + c.given_up, 0) as back
    from (select * from letters where newsletter_id = ${newsletter.id} and state in ('sent', 'stopped') and started_at is not null and kind <> 'proof'
      order by started_at desc, id desc limit ${most}) l
    left join lateral (select * from letter_counts c where c.letter_id = l.id) c on true order by l.started_at desc, l.id desc`.execute(
    ctx.db,
  );
  return rows.map(({ opens, clicks, people, machines, hidden, clicked, ...row }) => ({
    ...row,
    read: opens ? readRange({ delivered: row.delivered, people, machines, hidden }) : null,
    clicked: clicks ? clicked : null,
  }));
}

/** More letters than anybody has. */
const ALL = 100_000;

/** All of them as the lines of a CSV, times as ISO 8601; empty where something was not counted. */
export async function* comparedCsv(ctx: Context, newsletter: Newsletter): AsyncGenerator<string> {
  yield csvRow([
    'Letter',
    'Sent',
    'Recipients',
    'Delivered',
    'Read at least',
    'Read about',
    'Read at most',
    'Clicked',
    'Left',
    'Came back',
    'Complained',
  ]);
  for (const letter of await lettersCompared(ctx, newsletter, ALL)) {
    const { read } = letter;
    yield csvRow(
      [
        lineForAll(letter.subject),
        letter.at.toISOString(),
        letter.recipients,
        letter.delivered,
        read?.least ?? '',
        read?.about ?? '',
        read?.most ?? '',
        letter.clicked ?? '',
        letter.left,
        letter.back,
        letter.complained,
      ].map(String),
    );
  }
}
