'use server';

import { cookies } from 'next/headers';
import { redirect } from 'next/navigation';
import { type ActionResult, Fault } from '@/core/faults';
import { COLUMNS, type Column } from '@/core/readers/view';
import { addPerson } from '@/server/keeping/adding';
import { onReader, startBulk, stopBulk, undoBulk } from '@/server/keeping/bulk';
import { changeReader, resendConfirmation } from '@/server/keeping/profile';
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

export async function keepReader(slug: string, id: string, data: FormData): Done {
  return onDesk(slug, (ctx, newsletter) => changeReader(ctx, newsletter, id, Object.fromEntries(data)));
}
export async function askAgain(slug: string, id: string): Done {
  return onDesk(slug, (ctx, newsletter) => resendConfirmation(ctx, newsletter, id));
}
/** One of the acts on many, for one reader and at once. */
export async function doTo(slug: string, id: string, act: string, data?: FormData): Done {
  const what = Object.fromEntries(data ?? new FormData());
  return onDesk(slug, (ctx, newsletter, person) => onReader(ctx, newsletter, person, id, act, what));
}
export async function eraseOne(slug: string, id: string, address: string, data: FormData): Done {
  const result = await onDesk(slug, (ctx, newsletter, person) => {
    if (String(data.get('typed')).trim().toLowerCase() !== address.toLowerCase())
      throw new Fault('invalid', `Type ${address} to erase them. Nobody was touched.`, { typed: 'This is not their address.' });
    return onReader(ctx, newsletter, person, id, 'erase', {});
  });
  if (!result.ok) return result;
  redirect(`/desk/${slug}/readers`);
}
