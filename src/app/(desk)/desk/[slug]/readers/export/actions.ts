'use server';

import type { ActionResult } from '@/core/faults';
import { EVERYONE } from '@/core/readers/view';
import { dropExport, startExport, stopExport } from '@/server/transfer/exports';
import { onDesk } from '../../../../../desk';

type Done = Promise<ActionResult<unknown>>;

export async function takeOut(slug: string, raw: unknown): Done {
  return onDesk(slug, (ctx, newsletter, person) => startExport(ctx, newsletter, person, raw));
}
export async function takeAllOut(slug: string, data: FormData): Done {
  const whom = { condition: EVERYONE, find: '' };
  return takeOut(slug, { kind: data.get('kind'), columns: data.getAll('column'), whom });
}
export async function stop(slug: string, id: string): Done {
  return onDesk(slug, (ctx, newsletter) => stopExport(ctx, newsletter, id));
}
export async function drop(slug: string, id: string): Done {
  return onDesk(slug, (ctx, newsletter) => dropExport(ctx, newsletter, id));
}
