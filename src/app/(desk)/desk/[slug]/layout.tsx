import type { Metadata } from 'next';
import { cookies } from 'next/headers';
import type { ReactNode } from 'react';
import { longDay } from '@/core/growth/times';
import { may } from '@/core/newsletters/roles';
import { newslettersOf } from '@/server/newsletters/newsletters';
import { Closing } from '@/ui/kit/closing';
import { Masthead } from '@/ui/kit/masthead';
import { deskOf } from '../../../desk';
import { setTheme, signOut } from '../../account-actions';
import { keepIt } from './settings/actions';

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
      {newsletter.closing_at && (
        <Closing
          name={newsletter.name}
          day={longDay(newsletter.closing_at, newsletter.time_zone)}
          takeOut={`/desk/${newsletter.slug}/readers/export#whole`}
          keep={may(newsletter.role, 'own') ? keepIt.bind(null, newsletter.slug) : null}
        />
      )}
      {children}
    </>
  );
}
