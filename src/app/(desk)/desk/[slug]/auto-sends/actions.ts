'use server';

import type { ActionResult } from '@/core/faults';
import { createNewPosts, switchNewPosts } from '@/server/autosend/new-posts';
import { onDesk } from '../../../../desk';

export async function connectBlog(slug: string, data: FormData): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => createNewPosts(ctx, newsletter, Object.fromEntries(data)));
}

export async function switchRule(slug: string, id: string, on: boolean): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => switchNewPosts(ctx, newsletter, id, on));
}
