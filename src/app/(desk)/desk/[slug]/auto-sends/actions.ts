'use server';

import { redirect } from 'next/navigation';
import type { ActionResult } from '@/core/faults';
import { lookForFeeds as feedsBehind } from '@/server/autosend/discover';
import { changeNewPosts, createNewPosts, decideHeld, switchNewPosts } from '@/server/autosend/new-posts';
import { onDesk } from '../../../../desk';

/** Finds the feeds behind an address; they are shown on a page of their own, where one of them is connected. */
export async function lookForFeeds(slug: string, data: FormData): Promise<ActionResult<unknown>> {
  const typed = String(data.get('feedUrl') ?? '');
  const result = await onDesk(slug, (ctx, newsletter) => feedsBehind(ctx, newsletter, typed));
  if (!result.ok) return result;
  redirect(`/desk/${slug}/auto-sends/connect?at=${encodeURIComponent(typed.trim())}`);
}

export async function connectBlog(slug: string, data: FormData): Promise<ActionResult<unknown>> {
  const result = await onDesk(slug, (ctx, newsletter) => createNewPosts(ctx, newsletter, Object.fromEntries(data)));
  if (!result.ok) return result;
  redirect(`/desk/${slug}/auto-sends`);
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
