/**
 * Slots: the places in a rendered letter that differ from reader to reader. Inside a template string a slot is its name
 * between two private-use characters, which are stripped from everything that comes from outside, so no text can forge one.
 */
export const OPEN = '\ue000';
export const CLOSE = '\ue001';

/** The slots that every letter has, beside `link:N` for each address in it and `chip:FIELD` for each merge chip. */
export const SLOT = { leave: 'leave', choices: 'choices', pixel: 'pixel' } as const;

export type Piece = { kind: 'text'; text: string } | { kind: 'slot'; name: string };

export const slot = (name: string) => `${OPEN}${name}${CLOSE}`;

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
