'use client';

import { useOptimistic, useTransition } from 'react';
import { toast } from 'sonner';
import type { Place } from '@/core/delivery/seeds';
import type { ActionResult } from '@/core/faults';
import { useAlive } from '../kit/alive';

type Props = {
  address: string;
  place: Place | null;
  places: [Place, string][];
  say: (place: Place) => Promise<ActionResult<unknown>>;
};

/** Says where a copy was found; it can be said anew. */
export function PlaceOf({ address, place, places, say }: Props) {
  const [pending, begin] = useTransition();
  const [shown, show] = useOptimistic(place);
  const alive = useAlive();
  return (
    <select
      aria-label={`Where it lay in ${address}`}
      value={shown ?? ''}
      disabled={!alive || pending}
      className="w-full max-w-64 rounded-md border bg-sheet px-2.5 py-1.5 text-[13.5px] text-ink"
      onChange={(event) => {
        const chosen = event.target.value as Place;
        begin(async () => {
          show(chosen);
          const result = await say(chosen);
          if (!result.ok) toast.error(result.error.sentence);
        });
      }}
    >
      <option value="" disabled>
        Say where it lay
      </option>
      {places.map(([value, label]) => (
        <option key={value} value={value}>
          {label}
        </option>
      ))}
    </select>
  );
}
