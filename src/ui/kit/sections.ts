/** The seven sections of the desk, and the letter that goes there after `g`. */
export const SECTIONS = [
  { path: 'today', label: 'Today', key: 't' },
  { path: 'letters', label: 'Letters', key: 'l' },
  { path: 'readers', label: 'Readers', key: 'r' },
  { path: 'forms', label: 'Forms', key: 'f' },
  { path: 'auto-sends', label: 'Auto-sends', key: 'a' },
  { path: 'growth', label: 'Growth', key: 'w' },
  { path: 'delivery', label: 'Delivery', key: 'd' },
] as const;
