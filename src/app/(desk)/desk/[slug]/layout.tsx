import type { Metadata } from 'next';
import { cookies } from 'next/headers';
import type { ReactNode } from 'react';
import { newslettersOf } from '@/server/newsletters/newsletters';
import { Masthead } from '@/ui/kit/masthead';
import { deskOf } from '../../../desk';
import { setTheme, signOut } from '../../account-actions';

type Props = { children: ReactNode; params: Promise<{ slug: string }> };

export async function generateMetadata({ params }: Props): Promise<Metadata> {
  const { newsletter } = await deskOf((await params).slug);
  return { title: { default: newsletter.name, template: `%s · ${newsletter.name}` } };
}

export default async function Layout({ children, params }: Props) {
  const { ctx, newsletter, person } = await deskOf((await params).slug);
  const all = await newslettersOf(ctx, person.id);
  const theme = (await cookies()).get('inkset-theme')?.value ?? 'auto';
  return (
    <>
      <Masthead
        slug={newsletter.slug}
        name={newsletter.name}
        newsletters={all.map(({ slug, name }) => ({ slug, name }))}
        person={person}
        theme={theme}
        signOut={signOut}
        setTheme={setTheme}
      />
      {children}
    </>
  );
}
