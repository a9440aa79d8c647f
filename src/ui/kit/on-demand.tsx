'use client';

import { type ComponentType, type ReactNode, useEffect, useState } from 'react';
import { toast } from 'sonner';

/**
 * A part of a page that is fetched when it is first shown, or before by `soon`. Where it cannot be fetched, the page stays as it is and it is said; it is tried
 * again once there is a network.
 */
export function onDemand<P extends object>(
  load: () => Promise<ComponentType<P>>,
  meanwhile: ReactNode = null,
): ComponentType<P> & { soon: () => void } {
  let made: ComponentType<P> | null = null;
  const fetched = async () => {
    made ??= await load();
    return made;
  };
  function OnDemand(props: P) {
    const [Part, setPart] = useState<ComponentType<P> | null>(() => made);
    useEffect(() => {
      if (Part) return;
      let gone = false;
      const fetchIt = (say: boolean) =>
        fetched().then(
          (part) => !gone && setPart(() => part),
          () =>
            say &&
            !gone &&
            toast.error('This could not be fetched. It comes once you are online again; all else stays as it is.'),
        );
      void fetchIt(true);
      const again = () => void fetchIt(false);
      window.addEventListener('online', again);
      return () => {
        gone = true;
        window.removeEventListener('online', again);
      };
    }, [Part]);
    return Part ? <Part {...props} /> : meanwhile;
  }
  return Object.assign(OnDemand, { soon: () => void fetched().catch(() => undefined) });
}
