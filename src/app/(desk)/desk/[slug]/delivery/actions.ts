'use server';

import { redirect } from 'next/navigation';
import type { ActionResult } from '@/core/faults';
import { addDomain, checkDomain } from '@/server/senders/domains';
import { addSender, resendProof } from '@/server/senders/senders';
import { onDesk } from '../../../../desk';

export async function makeSender(slug: string, data: FormData): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => addSender(ctx, newsletter, Object.fromEntries(data)));
}

export async function sendProofAgain(slug: string, id: string): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => resendProof(ctx, newsletter, id));
}

export async function makeDomain(slug: string, data: FormData): Promise<ActionResult<unknown>> {
  const result = await onDesk(slug, async (ctx, newsletter) => {
    const { id } = await addDomain(ctx, newsletter, data.get('name'));
    await checkDomain(ctx, id, newsletter.id);
    return id;
  });
  if (!result.ok) return result;
  redirect(`/desk/${slug}/delivery/domains/${result.value}`);
}

export async function checkNow(slug: string, id: string): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => checkDomain(ctx, id, newsletter.id));
}
