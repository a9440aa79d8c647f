import { useSyncExternalStore } from 'react';

const never = () => () => {};

/**
 * Has the page come alive? Until then what its script does is not yet there: a press on a button would be lost, and a form would be sent the plain way. So
 * whoever is quick finds such a button at rest, as does whoever drives the page by program.
 */
export const useAlive = (): boolean =>
  useSyncExternalStore(
    never,
    () => true,
    () => false,
  );
