'use server';

import { redirect } from 'next/navigation';
import type { ActionResult } from '@/core/faults';
import { counted } from '@/core/growth/figures';
import type { Audience } from '@/core/sending/audience';
import { addressLetter, forgetAudience, keepAudience, peopleBehind } from '@/server/sending/address';
import { sendAgain } from '@/server/sending/again';
import { saveOwnText } from '@/server/sending/as-reader';
import { letGo } from '@/server/sending/departing';
import { archiveLetter, beginLetter, discardLetter, duplicateLetter, restoreLetter } from '@/server/sending/drafts';
import { letIn } from '@/server/sending/joining';
import { callBack, chooseSender, pauseLetter, resumeLetter, stopLetter } from '@/server/sending/letters';
import { beginFromMarkdown } from '@/server/sending/markdown';
import { publishPage, savePage, takeDown } from '@/server/sending/pages';
import { sendProof } from '@/server/sending/proof';
import { chooseVersion, saveTest } from '@/server/sending/versions';
import { onDesk } from '../../../../desk';

export async function sendFrom(slug: string, id: string, data: FormData): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => chooseSender(ctx, newsletter, id, String(data.get('senderId'))));
}

export async function address(slug: string, id: string, audience: Audience): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => addressLetter(ctx, newsletter, id, audience));
}

export async function findPeople(slug: string, typed: string): Promise<ActionResult<Awaited<ReturnType<typeof peopleBehind>>>> {
  return onDesk(slug, (ctx, newsletter) => peopleBehind(ctx, newsletter, typed));
}

export async function keepAudienceAs(slug: string, audience: Audience, data: FormData): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => keepAudience(ctx, newsletter, { name: data.get('name'), audience }));
}

export async function dropKept(slug: string, id: string): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => forgetAudience(ctx, newsletter, id));
}

export async function letItGo(slug: string, id: string, said: unknown): Promise<ActionResult<{ due: Date }>> {
  return onDesk(slug, (ctx, newsletter, person) => letGo(ctx, newsletter, person, id, said));
}

export async function keepTest(slug: string, id: string, said: unknown): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => saveTest(ctx, newsletter, id, said));
}

export async function choose(slug: string, id: string, n: number): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter, person) => chooseVersion(ctx, newsletter, id, n, person.name));
}

export async function letNewcomersIn(slug: string, id: string): Promise<ActionResult<unknown>> {
  return onDesk(slug, async (ctx, newsletter) => {
    const { people } = await letIn(ctx, newsletter, id);
    return { said: people ? `${counted(people, 'person gets', 'people get')} it too` : 'Nobody has joined since it began' };
  });
}

export async function once(slug: string, id: string, data: FormData): Promise<ActionResult<unknown>> {
  const result = await onDesk(slug, (ctx, newsletter) => sendAgain(ctx, newsletter, id, { subject: data.get('subject') }));
  if (!result.ok) return result;
  redirect(`/desk/${slug}/letters/${result.value.id}/send`);
}

export async function takeBack(slug: string, id: string): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter, person) => callBack(ctx, newsletter, id, person.name));
}

export async function pause(slug: string, id: string): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter, person) => pauseLetter(ctx, newsletter, id, person.name));
}

export async function resume(slug: string, id: string): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter, person) => resumeLetter(ctx, newsletter, id, person.name));
}

export async function stop(slug: string, id: string): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter, person) => stopLetter(ctx, newsletter, id, person.name));
}

export async function begin(slug: string): Promise<ActionResult<unknown>> {
  const result = await onDesk(slug, beginLetter);
  if (!result.ok) return result;
  redirect(`/desk/${slug}/letters/${result.value.id}/write`);
}

export async function beginFromFile(slug: string, data: FormData): Promise<ActionResult<unknown>> {
  const result = await onDesk(slug, (ctx, newsletter, person) => beginFromMarkdown(ctx, newsletter, person, data.get('file')));
  if (!result.ok) return result;
  redirect(`/desk/${slug}/letters/${result.value.id}/write`);
}

export async function keepPage(slug: string, id: string, data: FormData): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => savePage(ctx, newsletter, id, Object.fromEntries(data)));
}

export async function publish(slug: string, id: string): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => publishPage(ctx, newsletter, id));
}

export async function unpublish(slug: string, id: string): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => takeDown(ctx, newsletter, id));
}

export async function keepText(slug: string, id: string, data: FormData): Promise<ActionResult<unknown>> {
  const text = data.get('text');
  return onDesk(slug, (ctx, newsletter) => saveOwnText(ctx, newsletter, id, typeof text === 'string' ? text : null));
}

export async function putAway(slug: string, id: string, away: boolean): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => archiveLetter(ctx, newsletter, id, away));
}

export async function duplicate(slug: string, id: string): Promise<ActionResult<unknown>> {
  const result = await onDesk(slug, (ctx, newsletter) => duplicateLetter(ctx, newsletter, id));
  if (!result.ok) return result;
  redirect(`/desk/${slug}/letters/${result.value.id}/write`);
}

export async function drop(slug: string, id: string): Promise<ActionResult<unknown>> {
  const result = await onDesk(slug, (ctx, newsletter) => discardLetter(ctx, newsletter, id));
  if (!result.ok) return result;
  redirect(`/desk/${slug}/letters`);
}

export async function proof(slug: string, id: string, data: FormData): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter, person) => sendProof(ctx, newsletter, person, id, { to: data.get('to') }));
}

export async function restore(slug: string, id: string, revision: number): Promise<ActionResult<unknown>> {
  const result = await onDesk(slug, (ctx, newsletter, person) => restoreLetter(ctx, newsletter, person, id, revision));
  if (!result.ok) return result;
  redirect(`/desk/${slug}/letters/${id}/write`);
}
