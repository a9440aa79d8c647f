'use server';

import { redirect } from 'next/navigation';
import type { Lane } from '@/core/autosend/lanes';
import type { RuleWords } from '@/core/autosend/rule';
import type { ActionResult } from '@/core/faults';
import { proveAhead } from '@/server/autosend/coming';
import { lookForFeeds as feedsBehind } from '@/server/autosend/discover';
import { feedsInOpml } from '@/server/autosend/opml';
import {
  addFeed,
  changeRule,
  createRule,
  decideHeld,
  deleteRule,
  goOn,
  leaveOut,
  pauseRule,
  removeFeed,
  runNow,
  skipNext,
  switchRule,
  type Which,
} from '@/server/autosend/rules';
import { tellOfEdit } from '@/server/autosend/runs';
import { onDesk } from '../../../../desk';

/** Finds the feeds behind an address; they are shown on a page of their own, where one of them is connected. */
export async function lookForFeeds(slug: string, data: FormData): Promise<ActionResult<unknown>> {
  const typed = String(data.get('feedUrl') ?? '');
  const result = await onDesk(slug, (ctx, newsletter) => feedsBehind(ctx, newsletter, typed));
  if (!result.ok) return result;
  redirect(`/desk/${slug}/auto-sends/connect?at=${encodeURIComponent(typed.trim())}`);
}

async function made(slug: string, input: object): Promise<ActionResult<unknown>> {
  const result = await onDesk(slug, (ctx, newsletter) => createRule(ctx, newsletter, input));
  if (!result.ok) return result;
  redirect(`/desk/${slug}/auto-sends/${result.value.id}`);
}

const ways = (data: FormData) => ({ senderId: data.get('senderId'), listId: data.get('listId') });

export async function connectBlog(slug: string, data: FormData): Promise<ActionResult<unknown>> {
  return made(slug, { ...ways(data), feedUrls: [data.get('feedUrl')] });
}

export async function connectOwn(slug: string, data: FormData): Promise<ActionResult<unknown>> {
  return made(slug, { ...ways(data), own: true, name: 'Pages written here' });
}

export async function connectOpml(slug: string, data: FormData): Promise<ActionResult<unknown>> {
  const file = data.get('file');
  const bytes = file instanceof File ? Buffer.from(await file.arrayBuffer()) : Buffer.alloc(0);
  const result = await onDesk(slug, async (ctx, newsletter) => {
    const { title, urls } = feedsInOpml(bytes);
    return createRule(ctx, newsletter, { ...ways(data), feedUrls: urls, name: title || 'Several blogs' });
  });
  if (!result.ok) return result;
  redirect(`/desk/${slug}/auto-sends/${result.value.id}`);
}

export async function switchOn(slug: string, id: string, on: boolean): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => switchRule(ctx, newsletter, id, on));
}

export async function pause(slug: string, id: string): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => pauseRule(ctx, newsletter, id));
}

export async function goOnWith(slug: string, id: string, data: FormData): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => goOn(ctx, newsletter, id, { which: data.get('which') ?? 'all' }));
}

export async function runRuleNow(slug: string, id: string): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => runNow(ctx, newsletter, id));
}

export async function removeRule(slug: string, id: string): Promise<ActionResult<unknown>> {
  const result = await onDesk(slug, (ctx, newsletter) => deleteRule(ctx, newsletter, id));
  if (!result.ok) return result;
  redirect(`/desk/${slug}/auto-sends`);
}

export async function keepRule(slug: string, id: string, words: RuleWords, seen: RuleWords): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => changeRule(ctx, newsletter, id, { ...words, seen }));
}

export async function renameRule(slug: string, id: string, words: RuleWords, data: FormData): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => changeRule(ctx, newsletter, id, { ...words, name: data.get('name'), seen: words }));
}

export async function addSource(slug: string, id: string, data: FormData): Promise<ActionResult<unknown>> {
  return onDesk(slug, async (ctx, newsletter) => {
    const typed = String(data.get('feedUrl') ?? '').trim();
    // Any page of a blog leads to its feed; where it has several, its first.
    const url = typed ? (await feedsBehind(ctx, newsletter, typed))[0]!.url : '';
    await addFeed(ctx, newsletter, id, { url });
    return {
      said: url
        ? `${url} is a source of it now. What stands there already is never mailed.`
        : 'The pages written here are a source of it now.',
    };
  });
}

export async function removeSource(slug: string, id: string, feedId: string): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => removeFeed(ctx, newsletter, id, feedId));
}

export async function decide(slug: string, id: string, which: Which): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => decideHeld(ctx, newsletter, id, { which }));
}

export async function skip(slug: string, id: string, lane: Lane, on: boolean): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => skipNext(ctx, newsletter, id, lane, on));
}

export async function leavePost(slug: string, id: string, itemId: string, out: boolean): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter) => leaveOut(ctx, newsletter, id, itemId, out));
}

export async function prove(slug: string, id: string, lane: Lane, turn: number, data: FormData): Promise<ActionResult<unknown>> {
  return onDesk(slug, (ctx, newsletter, person) => proveAhead(ctx, newsletter, person, id, lane, turn, { to: data.get('to') }));
}

export async function tellReaders(slug: string, id: string, itemId: string): Promise<ActionResult<unknown>> {
  const result = await onDesk(slug, (ctx, newsletter) => tellOfEdit(ctx, newsletter, id, itemId));
  if (!result.ok) return result;
  redirect(`/desk/${slug}/letters/${result.value.letterId}`);
}
