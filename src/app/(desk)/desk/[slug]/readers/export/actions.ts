'use server';

import type { ActionResult } from '@/core/faults';
import { EVERYONE } from '@/core/readers/view';
import { dropExport, startExport, startWhole, stopExport } from '@/server/transfer/exports';
import { onDesk } from '../../../../../desk';

type Done = Promise<ActionResult<unknown>>;

export async function takeOut(slug: string, raw: unknown): Done {
  return onDesk(slug, (ctx, newsletter, person) => startExport(ctx, newsletter, person, raw), 'edit', { whileClosing: true });
}
export async function takeAllOut(slug: string, data: FormData): Done {
  const whom = { condition: EVERYONE, find: '' };
  return takeOut(slug, { kind: data.get('kind'), columns: data.getAll('column'), whom });
}
export async function takeWholeOut(slug: string): Done {
  return onDesk(slug, (ctx, newsletter, person) => startWhole(ctx, newsletter, person), 'own');
}
export async function stop(slug: string, id: string): Done {
  return onDesk(slug, (ctx, newsletter) => stopExport(ctx, newsletter, id), 'edit', { whileClosing: true });
}
export async function drop(slug: string, id: string): Done {
  return onDesk(slug, (ctx, newsletter) => dropExport(ctx, newsletter, id), 'edit', { whileClosing: true });
}
