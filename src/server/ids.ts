import { v7 } from 'uuid';

/** A new key: UUIDv7, so that neighbours in time are neighbours in the index. */
export const newId = (): string => v7();
