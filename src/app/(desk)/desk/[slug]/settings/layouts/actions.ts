'use server';

import { redirect } from 'next/navigation';
import type { ActionResult } from '@/core/faults';
import { dropLayout, makeLayout, makeUsual } from '@/server/newsletters/layouts';
import { onDesk } from '../../../../../desk';

export async function make(slug: string, from: string | null): Promise<ActionResult<unknown>> {
  const result = await onDesk(slug, (ctx, newsletter) => makeLayout(ctx, newsletter, from));
  if (!result.ok) return result;
  redirect(`/desk/${slug}/settings/layouts/${result.value.id}`);
}

export async function usual(slug: string, id: string): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => makeUsual(ctx, newsletter, id));
}

export async function drop(slug: string, id: string): Promise<ActionResult<unknown>> {
  const result = await onDesk(slug, (ctx, newsletter) => dropLayout(ctx, newsletter, id));
  if (!result.ok) return result;
  redirect(`/desk/${slug}/settings/layouts`);
}
