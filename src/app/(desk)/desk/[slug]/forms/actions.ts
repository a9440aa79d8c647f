'use server';

import { redirect } from 'next/navigation';
import type { ActionResult } from '@/core/faults';
import { createForm, saveForm } from '@/server/forms/forms';
import { onDesk } from '../../../../desk';

export async function makeForm(slug: string, data: FormData): Promise<ActionResult<unknown>> {
  const result = await onDesk(slug, (ctx, newsletter) => createForm(ctx, newsletter, Object.fromEntries(data)));
  if (!result.ok) return result;
  redirect(`/desk/${slug}/forms/${result.value.id}`);
}

export async function keepForm(slug: string, id: string, form: unknown): Promise<ActionResult<{ updatedAt: Date }>> {
  return onDesk(slug, (ctx, newsletter) => saveForm(ctx, newsletter, id, form));
}
