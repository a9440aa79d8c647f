/** What a member of a newsletter may do. */
export type Role = 'owner' | 'editor' | 'reader-only';
export const ROLES: Role[] = ['owner', 'editor', 'reader-only'];

/** What an act needs: looking; changing letters, forms, senders; deciding about members, identity and the relay. */
export type Need = 'look' | 'edit' | 'own';

const MAY: Record<Role, Need[]> = { owner: ['look', 'edit', 'own'], editor: ['look', 'edit'], 'reader-only': ['look'] };
export const may = (role: Role, need: Need): boolean => MAY[role].includes(need);

export const ROLE_WORDS: Record<Role, string> = {
  owner: 'may do everything, also invite people and change settings',
  editor: 'may write, send, and change forms and senders',
  'reader-only': 'may look at everything and change nothing',
};
