'use server';

import { cookies, headers } from 'next/headers';
import { redirect } from 'next/navigation';
import { auth } from '@/server/auth/session';

export async function signOut(): Promise<void> {
  await (await auth()).api.signOut({ headers: await headers() });
  const jar = await cookies();
  for (const { name } of jar.getAll()) if (name.includes('inkset.')) jar.delete(name);
  redirect('/sign-in');
}

export async function setTheme(theme: string): Promise<void> {
  const jar = await cookies();
  if (theme === 'light' || theme === 'dark') jar.set('inkset-theme', theme, { maxAge: 31_536_000, sameSite: 'lax' });
  else jar.delete('inkset-theme');
}
