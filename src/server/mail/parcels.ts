import type { Outcome } from '@/core/sending/outcome';
import type { Envelope } from './smtp';

/** One mail in a worker's hands: claimed, on a route, and whose source knows what it is. */
export type Parcel = {
  /** Unique within its source. */
  id: string;
  routeId: number;
  source: Source;
  /** Its newsletter wants it on an encrypted connection or not at all. */
  encrypted: boolean;
  /** By performance.now(). */
  claimedAt: number;
};

export type Made = { envelope: Envelope; message: Buffer };

/** What came of a parcel. Beside what a server said: it goes back untried, it may have been taken without an answer, or something of ours failed. */
export type Ending =
  | Outcome
  | { kind: 'put back'; reason: string | null; waitMs: number }
  | { kind: 'in doubt'; response: string }
  | { kind: 'fault'; response: string };
export type Result<P extends Parcel = Parcel> = { parcel: P; ending: Ending };

export type Want = { routeId: number; room: number };

/**
 * Where parcels come from: letters, or single mails. Both leave by the one post office. A source is called with its own parcels only.
 */
export interface Source<P extends Parcel = Parcel> {
  /** Takes up to `room` due mails of each route for this worker; fewer when no more are due. */
  claim(wants: Want[]): Promise<P[]>;
  /** May it still go? Asked of what was claimed a while ago: somebody may have left, a letter may have been stopped. */
  stillWanted(parcel: P): Promise<boolean>;
  make(parcel: P): Promise<Made>;
  /** Writes what came of parcels, in one transaction. Throws if it cannot. */
  record(results: Result<P>[]): Promise<void>;
  /** Sets a parcel aside whose result cannot be written, with the reason. */
  setAside(parcel: P, reason: string): Promise<void>;
  /** Gives back whatever stands as claimed by this worker and is not in its hands. Returns how many. */
  reclaim(inHand: string[]): Promise<number>;
}
