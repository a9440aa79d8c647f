import { runtime } from '../runtime';
import { type Auth, openAuth } from './auth';

const shared = globalThis as unknown as { inksetAuth?: Promise<Auth> };

/** The web process's account library, bound to its runtime. */
export function auth(): Promise<Auth> {
  shared.inksetAuth ??= runtime().then((ctx) => openAuth(ctx, ctx.pool));
  return shared.inksetAuth;
}

export type Person = { id: string; name: string; email: string };

/** Who is signed in, or null. */
export async function personOf(headers: Headers): Promise<Person | null> {
  const session = await (await auth()).api.getSession({ headers });
  return session ? { id: session.user.id, name: session.user.name, email: session.user.email } : null;
}
