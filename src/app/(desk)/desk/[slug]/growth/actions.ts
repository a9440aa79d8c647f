'use server';

import type { ActionResult } from '@/core/faults';
import { addNote, dropNote, setGoal } from '@/server/growth/growth';
import { onDesk } from '../../../../desk';

type Done = Promise<ActionResult<unknown>>;

export async function noteDay(slug: string, data: FormData): Done {
  return onDesk(slug, (ctx, newsletter) => addNote(ctx, newsletter, Object.fromEntries(data)));
}
export async function forgetNote(slug: string, id: string): Done {
  return onDesk(slug, (ctx, newsletter) => dropNote(ctx, newsletter, id));
}
export async function changeGoal(slug: string, data: FormData): Done {
  return onDesk(slug, (ctx, newsletter) => setGoal(ctx, newsletter, Object.fromEntries(data)));
}
