'use server';

import type { ActionResult } from '@/core/faults';
import { chooseSender } from '@/server/sending/letters';
import { onDesk } from '../../../../desk';

export async function sendFrom(slug: string, id: string, data: FormData): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => chooseSender(ctx, newsletter, id, String(data.get('senderId'))));
}
