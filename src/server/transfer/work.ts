import { asFault, Fault } from '@/core/faults';
import type { Context } from '../context';
import { isAway } from '../db/connection';
import { bringPortion } from './bring';
import { lookAt } from './look';
import { takeBackPortion } from './take-back';

/** Works on an import until its turn has ended or somebody stopped it. One that cannot go on is set aside with the reason, and stands in nobody's way. */
export async function workImport(ctx: Context, id: string): Promise<void> {
  try {
    await lookAt(ctx, id);
    while (await bringPortion(ctx, id));
    while (await takeBackPortion(ctx, id));
  } catch (error) {
    if (isAway(error)) throw error;
    if (!(error instanceof Fault)) ctx.log.error({ err: error, import: id }, 'an import failed');
    await ctx.db
      .updateTable('imports')
      .set({ state: 'failed', cause: asFault(error).sentence, ended_at: ctx.clock.now() })
      .where('id', '=', id)
      .where('state', 'in', ['looking', 'bringing', 'undoing'])
      .execute();
  }
}
