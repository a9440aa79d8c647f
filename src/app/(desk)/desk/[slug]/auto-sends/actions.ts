'use server';

import type { ActionResult } from '@/core/faults';
import { changeNewPosts, createNewPosts, switchNewPosts } from '@/server/autosend/new-posts';
import { onDesk } from '../../../../desk';

export async function connectBlog(slug: string, data: FormData): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => createNewPosts(ctx, newsletter, Object.fromEntries(data)));
}

export async function switchRule(slug: string, id: string, on: boolean): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => switchNewPosts(ctx, newsletter, id, on));
}

export async function changeRule(slug: string, id: string, data: FormData): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => changeNewPosts(ctx, newsletter, id, Object.fromEntries(data)));
}
