'use server';

import { redirect } from 'next/navigation';
import { type ActionResult, asFault } from '@/core/faults';
import { runtime } from '@/server/runtime';
import { foundNewsletter } from '@/server/site/founding';
import { personHere } from '../../desk';

export async function makeNewsletter(data: FormData): Promise<ActionResult<unknown>> {
  const person = await personHere();
  let slug: string;
  try {
    ({ slug } = await foundNewsletter(await runtime(), person, Object.fromEntries(data)));
  } catch (error) {
    return { ok: false, error: asFault(error).value };
  }
  redirect(`/desk/${slug}/today#matter`);
}
