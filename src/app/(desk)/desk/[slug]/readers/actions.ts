'use server';

import { cookies } from 'next/headers';
import type { ActionResult } from '@/core/faults';
import { COLUMNS, type Column } from '@/core/readers/view';
import { addPerson } from '@/server/keeping/adding';
import { startBulk, stopBulk, undoBulk } from '@/server/keeping/bulk';
import { keepSegment, removeSegment } from '@/server/readers/segments';
import { onDesk } from '../../../../desk';

type Done = Promise<ActionResult<unknown>>;

export async function beginAct(slug: string, raw: unknown): Done {
  return onDesk(slug, (ctx, newsletter, person) => startBulk(ctx, newsletter, person, raw));
}
/** Remembers in the browser which columns somebody wants to see. */
export async function chooseColumns(columns: Column[]): Promise<void> {
  const known = COLUMNS.filter((column) => columns.includes(column));
  (await cookies()).set('columns', known.join() || 'none', {
    maxAge: 31_536_000,
    sameSite: 'lax',
    httpOnly: true,
    path: '/desk',
  });
}
export async function stopAct(slug: string, id: string): Done {
  return onDesk(slug, (ctx, newsletter) => stopBulk(ctx, newsletter, id));
}
export async function undoAct(slug: string, id: string): Done {
  return onDesk(slug, (ctx, newsletter) => undoBulk(ctx, newsletter, id));
}
export async function saveSegment(slug: string, id: string | null, raw: unknown): Promise<ActionResult<{ id: string }>> {
  return onDesk(slug, (ctx, newsletter) => keepSegment(ctx, newsletter, id, raw));
}
export async function dropSegment(slug: string, id: string): Done {
  return onDesk(slug, (ctx, newsletter) => removeSegment(ctx, newsletter, id));
}
export async function addOne(slug: string, data: FormData): Promise<ActionResult<{ id: string }>> {
  return onDesk(slug, (ctx, newsletter, person) => addPerson(ctx, newsletter, person, Object.fromEntries(data)));
}
