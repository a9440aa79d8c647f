/** The keys of the place where letters are written, as they are listed for whoever asks. */
export const KEYS: [what: string, keys: string][] = [
  ['Put something in', '/ at the beginning of a line'],
  ['Bold, italic, underline', 'Ctrl B, Ctrl I, Ctrl U'],
  ['Strike through, code', 'Ctrl Shift S, Ctrl E'],
  ['Link', 'Ctrl Shift K'],
  ['Heading', 'Ctrl Alt 2, Ctrl Alt 3'],
  ['List, numbered list', 'Ctrl Shift 8, Ctrl Shift 7'],
  ['Quote', 'Ctrl Shift B'],
  ['Undo, do it again', 'Ctrl Z, Ctrl Shift Z'],
  ['Move a block up or down', 'Alt ↑, Alt ↓'],
  ['What can be done with a block', 'Alt Enter'],
  ['Find and replace', 'Ctrl H'],
  ['Save at once', 'Ctrl S'],
];
