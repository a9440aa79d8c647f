'use client';

import { type ReactNode, useEffect, useRef } from 'react';
import { Button } from './button';

const MOMENT_MS = 1_200;

type Props = {
  /** Where the form goes: a server action, or an address that takes a POST. */
  action: string | ((data: FormData) => Promise<void>);
  button: string;
  /** Sends itself a moment after the page can be seen. A page that is only fetched, or opened in the background, changes nothing. */
  byItself?: boolean;
  children?: ReactNode;
};

/** One button that does what a mailed link is for. It works without script too. */
export function PressOnce({ action, button, byItself = false, children }: Props) {
  const form = useRef<HTMLFormElement>(null);
  useEffect(() => {
    if (!byItself) return;
    let timer: ReturnType<typeof setTimeout> | undefined;
    const look = () => {
      clearTimeout(timer);
      if (document.visibilityState === 'visible') timer = setTimeout(() => form.current?.requestSubmit(), MOMENT_MS);
    };
    const sent = () => clearTimeout(timer);
    const element = form.current;
    element?.addEventListener('submit', sent);
    document.addEventListener('visibilitychange', look);
    look();
    return () => {
      clearTimeout(timer);
      element?.removeEventListener('submit', sent);
      document.removeEventListener('visibilitychange', look);
    };
  }, [byItself]);
  return (
    <form ref={form} action={action} {...(typeof action === 'string' ? { method: 'post' } : {})} className="mt-5">
      {children}
      <Button type="submit" tone="main">
        {button}
      </Button>
    </form>
  );
}
