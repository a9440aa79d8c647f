import type { ReaderState } from '@/core/readers/state';
import { Chip } from '../kit/page';

/** Where a reader stands; an address that cannot be reached says so first. */
export function StateChip({
  state,
  address,
}: {
  state: ReaderState;
  address: 'fine' | 'bouncing' | 'unreachable' | 'suppressed';
}) {
  if (address === 'unreachable') return <Chip tone="look">domain is gone</Chip>;
  if (address === 'suppressed') return <Chip tone="mend">no such mailbox</Chip>;
  if (address === 'bouncing') return <Chip tone="look">bouncing</Chip>;
  return <Chip tone={state === 'reading' ? 'fine' : state === 'waiting' ? 'look' : 'know'}>{state}</Chip>;
}
