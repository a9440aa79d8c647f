import { createHmac } from 'node:crypto';
import { issue, type KeyRing, keyFor, redeem } from '../keys';

/** Which delivery, and the day whose partition holds it. */
export type DeliveryRef = { id: bigint; sentOn: string };

/**
 * What a token in a letter is for. Each has a key of its own, so that none can be turned into another: whoever has a click link can count a
 * click, and do nothing else.
 */
export type DeliveryPurpose = 'click' | 'open' | 'bounce' | 'name';

const EPOCH = Date.UTC(2020, 0, 1);
const DAY = 86_400_000;
const REF_BYTES = 8;

function refBytes(ref: DeliveryRef): Buffer {
  const bytes = Buffer.alloc(REF_BYTES);
  bytes.writeUInt16BE(Math.round((Date.parse(`${ref.sentOn}T00:00:00Z`) - EPOCH) / DAY), 0);
  bytes.writeUIntBE(Number(ref.id), 2, 6);
  return bytes;
}

const readRef = (bytes: Buffer): DeliveryRef => ({
  id: BigInt(bytes.readUIntBE(2, 6)),
  sentOn: new Date(EPOCH + bytes.readUInt16BE(0) * DAY).toISOString().slice(0, 10),
});

/** A token of a delivery, for counting or for its return path: 31 letters and digits. */
export const deliveryToken = (ref: DeliveryRef, purpose: DeliveryPurpose, ring: KeyRing): string =>
  issue(ring, purpose, refBytes(ref));

/** Reads a delivery's token of this purpose back; null if it is malformed, of another purpose, or not ours. */
export function readDeliveryToken(token: string, purpose: DeliveryPurpose, ring: KeyRing): DeliveryRef | null {
  const bytes = redeem(ring, purpose, token, REF_BYTES);
  return bytes && readRef(bytes);
}

/**
 * Who a leave link is for: the reader, for ever; and the delivery it stood in, which says what to leave and counts it, for as long as that is
 * known. A mail without a delivery (a welcome) has none.
 */
export type LeaveRef = { readerId: string; delivery: DeliveryRef | null };
/**
 * A link for people and one-click requests, the address that leaves by mail, the page on which one chooses what one gets, that on which one says that one
 * stays, or the letter itself in a browser.
 */
export type LeavePurpose = 'leave' | 'leave-mail' | 'choices' | 'stay' | 'see';

const uuidBytes = (id: string) => Buffer.from(id.replace(/-/g, ''), 'hex');
const uuidOf = (bytes: Buffer) => bytes.toString('hex').replace(/^(.{8})(.{4})(.{4})(.{4})(.{12})$/, '$1-$2-$3-$4-$5');
const NOWHERE = Buffer.alloc(REF_BYTES);

/** A leave token: 56 letters and digits, short enough for a local part (RFC 5321 section 4.5.3.1.1). */
export const leaveToken = (ref: LeaveRef, purpose: LeavePurpose, ring: KeyRing): string =>
  issue(ring, purpose, Buffer.concat([uuidBytes(ref.readerId), ref.delivery ? refBytes(ref.delivery) : NOWHERE]));

/** Reads a leave token back; null if it is malformed, of another purpose, or not ours. */
export function readLeaveToken(token: string, purpose: LeavePurpose, ring: KeyRing): LeaveRef | null {
  const bytes = redeem(ring, purpose, token, 16 + REF_BYTES);
  if (!bytes) return null;
  const rest = bytes.subarray(16);
  return { readerId: uuidOf(bytes.subarray(0, 16)), delivery: rest.equals(NOWHERE) ? null : readRef(rest) };
}

const HOUR_MS = 3_600_000;

/** What is mailed to a reader to see and change what is kept of them: who, and until which hour. */
export function ownToken(readerId: string, until: Date, ring: KeyRing): string {
  const hour = Buffer.alloc(4);
  hour.writeUInt32BE(Math.ceil(until.getTime() / HOUR_MS));
  return issue(ring, 'own', Buffer.concat([uuidBytes(readerId), hour]));
}

/** Reads such a token back; null if it is not ours. Whether it has run out is for the caller to say. */
export function readOwnToken(token: string, ring: KeyRing): { readerId: string; until: Date } | null {
  const bytes = redeem(ring, 'own', token, 20);
  return bytes && { readerId: uuidOf(bytes.subarray(0, 16)), until: new Date(bytes.readUInt32BE(16) * HOUR_MS) };
}

/** The return path of a single mail. */
export function mailToken(id: string, ring: KeyRing): string {
  const bytes = Buffer.alloc(REF_BYTES);
  bytes.writeBigUInt64BE(BigInt(id));
  return issue(ring, 'mail', bytes);
}

/** The number of the single mail whose return path this is, or null. */
export function readMailToken(token: string, ring: KeyRing): string | null {
  const bytes = redeem(ring, 'mail', token, REF_BYTES);
  return bytes && String(bytes.readBigUInt64BE());
}

/**
 * The left side of a letter's Message-ID (RFC 5322 section 3.6.4): the same for the same copy each time it is sent. It leads back to the copy, for reports that
 * know no more of it; it is no other token, so that whoever sees it in an answer has none of them.
 */
export const messageName = (ref: DeliveryRef, ring: KeyRing): string => `n-${deliveryToken(ref, 'name', ring)}`;

/** Which copy bears this name, or null. */
export const readMessageName = (local: string, ring: KeyRing): DeliveryRef | null =>
  local.startsWith('n-') ? readDeliveryToken(local.slice(2), 'name', ring) : null;

/** The same for a single mail, out of which nobody can read anything. */
export function singleName(id: string, ring: KeyRing): string {
  return createHmac('sha256', keyFor(ring, ring.current, 'message-id')!)
    .update(`mail ${id}`)
    .digest('hex')
    .slice(0, 32);
}
