'use server';

import { redirect } from 'next/navigation';
import type { ActionResult } from '@/core/faults';
import { bringIn, dropImport, lookThrough, readAnotherWay, stopImport, undoImport } from '@/server/transfer/imports';
import { onDesk } from '../../../../../desk';

type Done = Promise<ActionResult<unknown>>;

export async function look(slug: string, id: string, data: FormData): Done {
  return onDesk(slug, (ctx, newsletter) => lookThrough(ctx, newsletter, id, Object.fromEntries(data)));
}
export async function readOtherwise(slug: string, id: string, data: FormData): Done {
  return onDesk(slug, (ctx, newsletter) => readAnotherWay(ctx, newsletter, id, Object.fromEntries(data)));
}
export async function bring(slug: string, id: string, data: FormData): Done {
  return onDesk(slug, (ctx, newsletter) => bringIn(ctx, newsletter, id, Object.fromEntries(data)));
}
export async function stop(slug: string, id: string): Done {
  return onDesk(slug, (ctx, newsletter) => stopImport(ctx, newsletter, id));
}
export async function takeBack(slug: string, id: string): Done {
  return onDesk(slug, (ctx, newsletter) => undoImport(ctx, newsletter, id));
}
export async function drop(slug: string, id: string): Done {
  const result = await onDesk(slug, (ctx, newsletter) => dropImport(ctx, newsletter, id));
  if (!result.ok) return result;
  redirect(`/desk/${slug}/readers/import`);
}
