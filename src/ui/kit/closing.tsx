import Link from 'next/link';
import type { ActionResult } from '@/core/faults';
import { ActionButton } from './action-form';

type Props = { name: string; day: string; takeOut: string; keep: (() => Promise<ActionResult<unknown>>) | null };

/** Stands over every screen of a newsletter that is to be deleted. */
export function Closing({ name, day, takeOut, keep }: Props) {
  return (
    <section aria-label="To be deleted" className="border-b border-stamp bg-stamp-tint px-4 py-3 sm:px-7">
      <div className="mx-auto flex max-w-[1384px] flex-wrap items-center justify-between gap-x-6 gap-y-2">
        <p className="min-w-0 flex-1 basis-80 [overflow-wrap:anywhere]">
          <b>
            {name} will be deleted on {day}.
          </b>{' '}
          Until then nothing of it is sent and its forms are closed.
        </p>
        {keep ? (
          <div className="flex flex-wrap items-center gap-4">
            <Link className="link" href={takeOut}>
              Take all of it out
            </Link>
            <ActionButton action={keep} done="It is kept">
              Keep it
            </ActionButton>
          </div>
        ) : (
          <p className="text-ink-2">An owner may keep it.</p>
        )}
      </div>
    </section>
  );
}
