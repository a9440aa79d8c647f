import type { Metadata } from 'next';
import type { ReactNode } from 'react';
import { Screen, Standfirst } from '@/ui/kit/page';
import { SubNav } from '@/ui/kit/sub-nav';
import { deskOf } from '../../../../desk';

export const metadata: Metadata = { title: 'Settings' };

export default async function Layout({ children, params }: { children: ReactNode; params: Promise<{ slug: string }> }) {
  const { slug } = await params;
  const { newsletter, ctx } = await deskOf(slug);
  const base = `/desk/${slug}/settings`;
  return (
    <Screen>
      <Standfirst title="Settings">
        What readers see of <b>{newsletter.name}</b>, who works on it, and which way letters leave. Its sign-up page is at{' '}
        <a href={`${ctx.config.webOrigin}/at/${slug}`} className="link">
          {`${ctx.config.webOrigin}/at/${slug}`.replace(/^https?:\/\//, '')}
        </a>
        .
      </Standfirst>
      <SubNav
        label="Settings"
        parts={[
          { href: base, label: 'Identity' },
          { href: `${base}/lists`, label: 'Lists, tags, fields' },
          { href: `${base}/layouts`, label: 'Layouts' },
          { href: `${base}/people`, label: 'People' },
          { href: `${base}/relay`, label: 'SMTP service' },
        ]}
      />
      {children}
    </Screen>
  );
}
