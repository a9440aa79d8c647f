import { sitePage } from '@/server/public/site-routes';
import { runtime } from '@/server/runtime';

export const dynamic = 'force-dynamic';

/** A newsletter's own pages. They need no script and have no origin of ours. */
async function show(request: Request): Promise<Response> {
  const { pathname, searchParams } = new URL(request.url);
  const [slug = '', ...path] = pathname
    .split('/')
    .slice(2)
    .filter(Boolean)
    .map((part) => decodeURIComponent(part));
  const { body, status, headers } = await sitePage(await runtime(), slug, path, searchParams);
  return new Response(typeof body === 'string' ? body : new Uint8Array(body), { status, headers });
}

export { show as GET, show as HEAD };
