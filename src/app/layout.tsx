import './globals.css';
import type { Metadata } from 'next';
import { cookies } from 'next/headers';
import type { ReactNode } from 'react';
import { Toaster } from 'sonner';

export const metadata: Metadata = {
  title: { default: 'Inkset', template: '%s · Inkset' },
  description: 'A newsletter of your own.',
};

export default async function Root({ children }: { children: ReactNode }) {
  const theme = (await cookies()).get('inkset-theme')?.value;
  return (
    <html lang="en" data-theme={theme === 'light' || theme === 'dark' ? theme : undefined}>
      <body>
        {children}
        <Toaster
          position="top-center"
          offset={72}
          toastOptions={{
            style: {
              background: 'var(--sheet)',
              color: 'var(--ink)',
              border: '1px solid var(--rule)',
              borderRadius: 6,
              fontFamily: 'var(--font-sans)',
            },
          }}
        />
      </body>
    </html>
  );
}
