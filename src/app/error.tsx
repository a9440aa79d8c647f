'use client';

import { Button } from '@/ui/kit/button';

export default function Failed({ reset }: { error: Error; reset: () => void }) {
  return (
    <main className="mx-auto max-w-xl px-5 py-[16vh]">
      <h1 className="font-serif text-title">This page could not be made</h1>
      <p className="mt-2 mb-5 font-serif text-standfirst text-ink-2">
        Something on our side did not answer. Nothing was lost; letters that are due leave all the same.
      </p>
      <Button tone="main" onClick={reset}>
        Try again
      </Button>
    </main>
  );
}
