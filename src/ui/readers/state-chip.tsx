import type { Standing } from '@/core/readers/condition';
import { STANDING_WORDS } from '@/core/readers/tell';
import { Chip } from '../kit/page';

const TONES = { reading: 'fine', waiting: 'look', left: 'know', unreachable: 'look' } as const;

/** Where a reader stands; an address that takes no mail says so first. */
export function StateChip({
  standing,
  address,
}: {
  standing: Standing | 'none';
  address: 'fine' | 'bouncing' | 'unreachable' | 'suppressed';
}) {
  if (address === 'suppressed') return <Chip tone="mend">suppressed</Chip>;
  if (address === 'unreachable') return <Chip tone="look">domain is gone</Chip>;
  if (address === 'bouncing') return <Chip tone="look">bouncing</Chip>;
  if (standing === 'none') return <Chip tone="know">on no list</Chip>;
  return <Chip tone={TONES[standing]}>{STANDING_WORDS[standing]}</Chip>;
}
