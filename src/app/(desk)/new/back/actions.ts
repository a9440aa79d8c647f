'use server';

import { revalidatePath } from 'next/cache';
import { redirect } from 'next/navigation';
import { type ActionResult, asFault } from '@/core/faults';
import { runtime } from '@/server/runtime';
import { bringBack, dropAsking } from '@/server/transfer/whole-in';
import { personHere } from '../../../desk';

export async function bring(id: string): Promise<ActionResult<unknown>> {
  const person = await personHere();
  try {
    await bringBack(await runtime(), person.id, id);
  } catch (error) {
    return { ok: false, error: asFault(error).value };
  }
  revalidatePath('/new/back/[id]', 'page');
  return { ok: true, value: null };
}

export async function throwAway(): Promise<ActionResult<unknown>> {
  const person = await personHere();
  await dropAsking(await runtime(), person.id);
  redirect('/new/back');
}
