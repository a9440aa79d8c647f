/**
 * Slots: the places in a rendered letter that differ from reader to reader. Inside a template string a slot is its name
 * between two private-use characters, which are stripped from everything that comes from outside, so no text can forge one.
 */
export const OPEN = '\ue000';
export const CLOSE = '\ue001';

/** The slots that every letter has, beside `link:N` for each address in it, `chipSlot` for each merge chip and `part` for what is for some alone. */
export const SLOT = { leave: 'leave', choices: 'choices', pixel: 'pixel', stay: 'stay', see: 'see' } as const;

export type Piece = { kind: 'text'; text: string } | { kind: 'slot'; name: string };

export const slot = (name: string) => `${OPEN}${name}${CLOSE}`;

/** The name of a merge chip's slot: its field, and what stands for who gave no answer. */
export const chipSlot = ({ field, fallback }: { field: string; fallback: string }) =>
  `chip:${encodeURIComponent(whole(field))}=${encodeURIComponent(whole(fallback))}`;

/** The chip that a slot is for; null for every other slot. */
export function chipOf(name: string): { field: string; fallback: string } | null {
  const match = /^chip:([^=]*)=(.*)$/.exec(name);
  return match && { field: decodeURIComponent(match[1]!), fallback: decodeURIComponent(match[2]!) };
}

/** What stands between these two is only for who is in a segment, or only for who is not. */
export const partSlot = (segmentId: string, inside: boolean) => `part:${inside ? 'in' : 'out'}:${segmentId}`;
export const PART_ENDS = 'part ends';

/** Which part a slot begins; null for every other slot. */
export function partOf(name: string): { segmentId: string; inside: boolean } | null {
  const match = /^part:(in|out):(.+)$/.exec(name);
  return match && { segmentId: match[2]!, inside: match[1] === 'in' };
}

/** Removes the marks from text of foreign origin. */
export const withoutMarks = (text: string) => text.replace(/[\ue000\ue001]/g, '');

/** Cuts a template at its slots. Joining the pieces again, slots by `slot`, gives the template back. */
export function pieces(template: string): Piece[] {
  return template
    .split(/(\ue000[^\ue000\ue001]*\ue001)/)
    .filter((part) => part !== '')
    .map((part) => (part.startsWith(OPEN) ? { kind: 'slot', name: part.slice(1, -1) } : { kind: 'text', text: part }));
}

/** Text without halves of characters (lone surrogates), which neither a database nor a mail can hold. */
export const whole = (text: string): string =>
  text.replace(/[\ud800-\udbff](?![\udc00-\udfff])|(?<![\ud800-\udbff])[\udc00-\udfff]/g, '\ufffd');

/**
 * A template for one reader: each slot by `value`, and only those parts that are for them. `inside` says whether they are in a segment; null where it
 * cannot be asked, which shows no part at all.
 */
export function filledFor(
  template: string,
  value: (name: string) => string,
  inside: (segmentId: string) => boolean | null,
): string {
  const open: boolean[] = [];
  return pieces(template)
    .map((piece) => {
      if (piece.kind === 'slot') {
        const part = partOf(piece.name);
        if (part) {
          open.push((open.at(-1) ?? true) && inside(part.segmentId) === part.inside);
          return '';
        }
        if (piece.name === PART_ENDS) {
          open.pop();
          return '';
        }
      }
      if (open.at(-1) === false) return '';
      return piece.kind === 'text' ? piece.text : value(piece.name);
    })
    .join('');
}
