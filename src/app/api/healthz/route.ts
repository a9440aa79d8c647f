import { runtime } from '@/server/runtime';

export const dynamic = 'force-dynamic';

export async function GET(): Promise<Response> {
  await runtime();
  return new Response('ok');
}
