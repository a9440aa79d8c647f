'use server';

import type { ActionResult } from '@/core/faults';
import { callBack, chooseSender, pauseLetter, reschedule, resumeLetter, stopLetter } from '@/server/sending/letters';
import { onDesk } from '../../../../desk';

export async function sendFrom(slug: string, id: string, data: FormData): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => chooseSender(ctx, newsletter, id, String(data.get('senderId'))));
}

export async function setTime(slug: string, id: string, data: FormData): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter, person) => reschedule(ctx, newsletter, id, String(data.get('at') ?? ''), person.name));
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
