'use server';

import type { ActionResult } from '@/core/faults';
import { changeNewPosts, createNewPosts, decideHeld, switchNewPosts } from '@/server/autosend/new-posts';
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

export async function decide(slug: string, id: string, which: 'newest' | 'none'): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => decideHeld(ctx, newsletter, id, { which }));
}

export async function decideAll(slug: string, id: string): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => decideHeld(ctx, newsletter, id, { which: 'all' }));
}
