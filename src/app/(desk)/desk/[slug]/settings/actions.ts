'use server';

import { redirect } from 'next/navigation';
import type { ActionResult } from '@/core/faults';
import type { Role } from '@/core/newsletters/roles';
import { keepRelay, probeRelay } from '@/server/mail/relay';
import { dropLogo, keepLogo } from '@/server/newsletters/media';
import { invite, setRole, withdraw } from '@/server/newsletters/members';
import { changeNewsletter, setEncryption } from '@/server/newsletters/newsletters';
import { dropRelay } from '@/server/sending/routing';
import { openCalendar } from '@/server/sending/runway-calendar';
import { closeNewsletter, keepNewsletter } from '@/server/site/removing';
import { onDesk } from '../../../../desk';

export async function keepSettings(slug: string, data: FormData): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => changeNewsletter(ctx, newsletter, Object.fromEntries(data)), 'own');
}
export async function keepEncryption(slug: string, data: FormData): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => setEncryption(ctx, newsletter, Object.fromEntries(data)), 'own');
}
export async function deleteNewsletter(slug: string, data: FormData): Promise<ActionResult<unknown>> {
  const result = await onDesk(
    slug,
    (ctx, newsletter, person) => closeNewsletter(ctx, newsletter, data.get('name'), person.name),
    'own',
  );
  if (!result.ok) return result;
  redirect(`/desk/${slug}/today`);
}
export async function keepIt(slug: string): Promise<ActionResult<unknown>> {
  return onDesk(slug, keepNewsletter, 'own');
}
export async function giveCalendar(slug: string, open: boolean): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => openCalendar(ctx, newsletter, open), 'own');
}
export async function uploadLogo(slug: string, data: FormData): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => keepLogo(ctx, newsletter, data.get('logo')), 'own');
}
export async function removeLogo(slug: string): Promise<ActionResult<unknown>> {
  return onDesk(slug, dropLogo, 'own');
}
export async function invitePerson(slug: string, data: FormData): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => invite(ctx, newsletter, Object.fromEntries(data)), 'own');
}
export async function withdrawInvitation(slug: string, id: string): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => withdraw(ctx, newsletter, id), 'own');
}
export async function changeRole(slug: string, userId: string, data: FormData): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => setRole(ctx, newsletter, userId, data.get('role') as Role), 'own');
}
export async function removeMember(slug: string, userId: string): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => setRole(ctx, newsletter, userId, null), 'own');
}
export async function saveRelay(slug: string, data: FormData): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => keepRelay(ctx, newsletter, Object.fromEntries(data)), 'own');
}
export async function tryRelay(slug: string): Promise<ActionResult<unknown>> {
  return onDesk(slug, probeRelay, 'own');
}
export async function removeRelay(slug: string): Promise<ActionResult<unknown>> {
  return onDesk(slug, dropRelay, 'own');
}
