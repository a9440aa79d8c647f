'use client';

import { useRouter } from 'next/navigation';
import { useEffect } from 'react';

/** Makes the page anew every few seconds while something is going on, and while somebody is looking. */
export function Refreshing({ seconds }: { seconds: number }) {
  const router = useRouter();
  useEffect(() => {
    const timer = setInterval(() => {
      if (document.visibilityState === 'visible') router.refresh();
    }, seconds * 1000);
    return () => clearInterval(timer);
  }, [router, seconds]);
  return null;
}
