'use server';

import { redirect } from 'next/navigation';
import { asFault } from '@/core/faults';
import { acceptInvitation } from '@/server/newsletters/members';
import { runtime } from '@/server/runtime';
import { proveSender } from '@/server/senders/senders';
import { personHere } from '../desk';

/** Confirms a sender; what came of it stands on the page of the link. */
export async function prove(token: string): Promise<void> {
  await proveSender(await runtime(), token).catch(asFault);
  redirect(`/sender/${encodeURIComponent(token)}`);
}

/** Accepts an invitation and opens the desk; what stands in the way stands on the page of the link. */
export async function accept(token: string): Promise<void> {
  const person = await personHere();
  const found = await acceptInvitation(await runtime(), person, token).catch(asFault);
  redirect('slug' in found ? `/desk/${found.slug}/today` : `/invitation/${encodeURIComponent(token)}`);
}
