'use server';

import type { Place } from '@/core/delivery/seeds';
import type { ActionResult } from '@/core/faults';
import { addSeedBox, dropSeedBox, sayWhere, startSeedTest } from '@/server/delivery/seeds';
import { onDesk } from '../../../../../desk';

type Done = Promise<ActionResult<unknown>>;

export async function addBox(slug: string, data: FormData): Done {
  return onDesk(slug, (ctx, newsletter) => addSeedBox(ctx, newsletter, data.get('address')));
}
export async function dropBox(slug: string, id: string): Done {
  return onDesk(slug, (ctx, newsletter) => dropSeedBox(ctx, newsletter, id));
}
export async function tryLetter(slug: string, data: FormData): Done {
  return onDesk(slug, (ctx, newsletter, person) => startSeedTest(ctx, newsletter, person, data.get('letter')));
}
export async function sayPlace(slug: string, testId: string, address: string, place: Place): Done {
  return onDesk(slug, (ctx, newsletter) => sayWhere(ctx, newsletter, testId, address, place));
}
