import { RECIPIENT_SHELVES, type RecipientShelf } from '@/server/sending/results';

/** What the address bar says that the recipients are narrowed to. */
export const shelfOf = (asked: string | null | undefined): RecipientShelf =>
  RECIPIENT_SHELVES.find((one) => one === asked) ?? 'all';
