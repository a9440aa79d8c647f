'use server';

import type { ActionResult } from '@/core/faults';
import { changeNewsletter } from '@/server/newsletters/newsletters';
import { onDesk } from '../../../../desk';

export async function keepSettings(slug: string, data: FormData): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => changeNewsletter(ctx, newsletter, Object.fromEntries(data)));
}
