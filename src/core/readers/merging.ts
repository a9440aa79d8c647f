import type { FieldKind } from '../forms/fields';
import type { ReaderState } from './state';

/** Where somebody stands on a list: reading, waiting, left by their own act, or taken off it by a member. */
export type Stands = ReaderState | 'taken off' | null;

/**
 * Where somebody stands once one list has gone into another. Nobody who left the one that stays by their own act comes back by it; who reads either reads
 * it; who waits for one and reads the other has shown already that the address is theirs.
 */
export function merged(from: Stands, into: Stands): ReaderState | null {
  if (into === 'left') return 'left';
  if (from === 'reading' || into === 'reading') return 'reading';
  if (from === 'waiting' || into === 'waiting') return 'waiting';
  // Whom a member took off one, and who was never on the other, is not remembered as somebody who left it.
  return into === null && from !== 'left' ? null : 'left';
}

/** What would become of everybody, were one list to go into another. */
export type Merging = {
  from: string;
  into: string;
  people: { from: Stands; into: Stands; become: ReaderState | null; n: number }[];
};

/** What would become of a field's answers as another kind: how many fit, how many do not, and some of those. */
export type KindChange = {
  label: string;
  from: FieldKind;
  to: FieldKind;
  fits: number;
  lost: number;
  examples: string[];
  options: string[];
};

/** A text of JSON with one list's id in the place of another's. */
export const withListReplaced = <T>(value: T, from: string, into: string): T =>
  JSON.parse(JSON.stringify(value).replaceAll(from, into));
