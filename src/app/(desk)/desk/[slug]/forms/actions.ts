'use server';

import { redirect } from 'next/navigation';
import type { ActionResult } from '@/core/faults';
import { archiveForm, createForm, dropDraft, duplicateForm, publishForm, restoreVersion, saveDraft } from '@/server/forms/forms';
import { dropHeld } from '@/server/forms/held';
import { pickingAddress } from '@/server/forms/picking';
import { letIn } from '@/server/forms/sign-ups';
import { endTest, startTest } from '@/server/forms/tests';
import { endTrial, startTrial } from '@/server/forms/trials';
import { keepGift, keepPicture } from '@/server/newsletters/media';
import { mountedRoutes } from '@/server/public/mounted';
import { onDesk } from '../../../../desk';

type Done = Promise<ActionResult<unknown>>;

export async function makeForm(slug: string, data: FormData): Done {
  const result = await onDesk(slug, (ctx, newsletter) =>
    createForm(ctx, newsletter, Object.fromEntries([...data].filter(([, value]) => value !== ''))),
  );
  if (!result.ok) return result;
  redirect(`/desk/${slug}/forms/${result.value.id}`);
}
export async function keepDraft(slug: string, id: string, form: unknown): Promise<ActionResult<{ savedAt: Date }>> {
  return onDesk(slug, (ctx, newsletter) => saveDraft(ctx, newsletter, id, form));
}
export async function publish(slug: string, id: string): Promise<ActionResult<{ version: number }>> {
  return onDesk(slug, (ctx, newsletter) => publishForm(ctx, newsletter, id));
}
export async function discard(slug: string, id: string): Done {
  return anew(slug, id, await onDesk(slug, (ctx, newsletter) => dropDraft(ctx, newsletter, id)));
}
export async function restore(slug: string, id: string, version: number): Done {
  return anew(slug, id, await onDesk(slug, (ctx, newsletter) => restoreVersion(ctx, newsletter, id, version)));
}
export async function duplicate(slug: string, id: string): Done {
  const result = await onDesk(slug, (ctx, newsletter) => duplicateForm(ctx, newsletter, id));
  if (!result.ok) return result;
  redirect(`/desk/${slug}/forms/${result.value.id}`);
}
export async function archive(slug: string, id: string, away: boolean): Done {
  return onDesk(slug, (ctx, newsletter) => archiveForm(ctx, newsletter, id, away));
}
export async function giveFile(slug: string, data: FormData): Promise<ActionResult<{ id: string; name: string }>> {
  return onDesk(slug, (ctx, newsletter) => keepGift(ctx, newsletter, data.get('file')));
}
export async function addPicture(slug: string, data: FormData): Promise<ActionResult<{ url: string }>> {
  return onDesk(slug, (ctx, newsletter) => keepPicture(ctx, newsletter, data.get('file')));
}
export async function showPage(slug: string, url: string): Promise<ActionResult<{ address: string }>> {
  return onDesk(slug, (ctx) => pickingAddress(ctx, url));
}
export async function tryForm(slug: string, id: string, address: string): Promise<ActionResult<{ id: string }>> {
  return onDesk(slug, async (ctx, newsletter) => startTrial(ctx, newsletter, id, address, await mountedRoutes()));
}
export async function endTry(slug: string, trial: string): Done {
  return onDesk(slug, (ctx, newsletter) => endTrial(ctx, newsletter, trial));
}
export async function letHeldIn(slug: string, id: string, key: string): Done {
  return onDesk(slug, (ctx, newsletter) => letIn(ctx, newsletter, id, key));
}
export async function dropOneHeld(slug: string, id: string, key: string): Done {
  return onDesk(slug, (ctx, newsletter) => dropHeld(ctx, newsletter, id, key));
}
export async function dropAllHeld(slug: string, id: string): Done {
  return onDesk(slug, (ctx, newsletter) => dropHeld(ctx, newsletter, id));
}
export async function beginTest(slug: string, id: string): Done {
  return anew(slug, id, await onDesk(slug, (ctx, newsletter) => startTest(ctx, newsletter, id)));
}
export async function finishTest(slug: string, id: string, keep: 'a' | 'b'): Done {
  return anew(slug, id, await onDesk(slug, (ctx, newsletter) => endTest(ctx, newsletter, id, keep)));
}

/** The draft is another one now; the editor must show that one instead of what it holds. */
function anew<T extends ActionResult<unknown>>(slug: string, id: string, result: T): T {
  if (result.ok) redirect(`/desk/${slug}/forms/${id}?again=${crypto.randomUUID().slice(0, 8)}`);
  return result;
}
