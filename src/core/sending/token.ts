import { createHmac, timingSafeEqual } from 'node:crypto';

/** What a link or a return path in a letter says about itself: which delivery, and the day whose partition holds it. */
export type DeliveryRef = { id: bigint; sentOn: string };

const EPOCH = Date.UTC(2020, 0, 1);
const DAY = 86_400_000;
const SIGNATURE_BYTES = 10;
const LENGTH = (8 + SIGNATURE_BYTES) * 2;

function payload(ref: DeliveryRef): Buffer {
  const bytes = Buffer.alloc(8);
  bytes.writeUInt16BE(Math.round((Date.parse(`${ref.sentOn}T00:00:00Z`) - EPOCH) / DAY), 0);
  bytes.writeUIntBE(Number(ref.id), 2, 6);
  return bytes;
}

const mac = (bytes: Buffer, secret: string) =>
  createHmac('sha256', secret).update('delivery').update(bytes).digest().subarray(0, SIGNATURE_BYTES);

/**
 * A signed reference to a delivery: 36 lower-case hex letters, so that it survives mail programs that fold the case of a
 * local part. 80 bits of HMAC-SHA-256; nobody can make one for another reader.
 */
export function deliveryToken(ref: DeliveryRef, secret: string): string {
  const bytes = payload(ref);
  return Buffer.concat([bytes, mac(bytes, secret)]).toString('hex');
}

/** Reads a token back; null if it is malformed or not ours. */
export function readDeliveryToken(token: string, secret: string): DeliveryRef | null {
  if (token.length !== LENGTH || !/^[0-9a-f]+$/i.test(token)) return null;
  const bytes = Buffer.from(token, 'hex');
  const head = bytes.subarray(0, 8);
  if (!timingSafeEqual(bytes.subarray(8), mac(head, secret))) return null;
  return {
    id: BigInt(head.readUIntBE(2, 6)),
    sentOn: new Date(EPOCH + head.readUInt16BE(0) * DAY).toISOString().slice(0, 10),
  };
}
