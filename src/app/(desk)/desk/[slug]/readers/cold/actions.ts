'use server';

import type { ActionResult } from '@/core/faults';
import { askCold, endAsking, letGo } from '@/server/keeping/cold';
import { onDesk } from '../../../../../desk';

type Done = Promise<ActionResult<unknown>>;

export async function ask(slug: string, days: number, data: FormData): Done {
  return onDesk(slug, (ctx, newsletter, person) => askCold(ctx, newsletter, person, { ...Object.fromEntries(data), days }));
}
export async function release(slug: string): Done {
  return onDesk(slug, (ctx, newsletter, person) => letGo(ctx, newsletter, person));
}
export async function leaveThem(slug: string): Done {
  return onDesk(slug, endAsking);
}
