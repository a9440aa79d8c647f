import { MarkBook } from '../delivery/marks';
import { runtime } from '../runtime';
import { overFetch, type PublicHandler } from './request';
import { publicRoutes } from './router';

const shared = globalThis as unknown as { inksetPublic?: Promise<PublicHandler> };

/** The public paths bound to the web process's runtime, for mounting in Next. */
export function mountedRoutes(): Promise<PublicHandler> {
  shared.inksetPublic ??= runtime().then((ctx) => overFetch(publicRoutes(ctx, new MarkBook(ctx))));
  return shared.inksetPublic;
}
