import { asFault } from '@/core/faults';
import type { Context } from '../context';
import { calendarFor } from '../sending/runway-calendar';
import { saying } from './page';
import { answer, type PublicAnswer } from './request';

/** GET /e/runway/TOKEN.ics: what leaves when, for a calendar program, to whoever has the private address. */
export async function runwayCalendar(ctx: Context, token: string): Promise<PublicAnswer> {
  try {
    return answer(await calendarFor(ctx, token), {
      headers: { 'content-type': 'text/calendar; charset=utf-8', 'cache-control': 'private, max-age=300' },
    });
  } catch (error) {
    const fault = asFault(error);
    if (fault.status !== 404) throw error;
    return saying('Not found', 'There is no calendar here', 'Perhaps its address was made anew.', 404);
  }
}
