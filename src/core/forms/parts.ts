import type { FormDefinition } from './definition';
import { isOver, shapeOf } from './placement';

/** A part of a form that one can point at. `field:KEY` is a question. */
export type PartId =
  | 'close'
  | 'picture'
  | 'heading'
  | 'words'
  | 'lists'
  | 'consent'
  | 'button'
  | 'terms'
  | 'count'
  | 'thanks'
  | 'ground'
  | `field:${string}`;
export type Part = { id: PartId; name: string };

/** The parts of a form in the order in which they stand, as visitors meet it or once it was sent in; its ground comes last. */
export function partsOf(form: FormDefinition, after: boolean): Part[] {
  const { kind } = form.placement;
  const close: Part[] = isOver(kind) ? [{ id: 'close', name: 'Cross' }] : [];
  const ground: Part = { id: 'ground', name: 'Ground' };
  if (after) return [...close, { id: 'thanks', name: 'Thanks' }, ground];
  const flat = shapeOf(kind) === 'line';
  const parts: (Part | false)[] = [
    ...close,
    !flat && form.look.picture.url !== '' && { id: 'picture', name: 'Picture' },
    { id: 'heading', name: 'Heading' },
    !flat && form.words !== '' && { id: 'words', name: 'Words' },
    ...form.fields.map((field): Part => ({ id: `field:${field.key}`, name: field.label || 'A question' })),
    form.listChoice.length > 0 && { id: 'lists', name: 'Choice of lists' },
    form.consent !== '' && { id: 'consent', name: 'Tick' },
    { id: 'button', name: 'Button' },
    form.terms.words !== '' && { id: 'terms', name: 'Small print' },
    form.countFrom > 0 && { id: 'count', name: 'Number of readers' },
    ground,
  ];
  return parts.filter((part) => part !== false);
}

/** The text of a part that is written where it stands, or null where it is set in other ways. */
export function textOf(form: FormDefinition, part: PartId): string | null {
  if (part === 'heading' || part === 'words' || part === 'button' || part === 'thanks' || part === 'consent') return form[part];
  if (part === 'terms') return form.terms.words;
  const field = form.fields.find(({ key }) => part === `field:${key}`);
  return field && field.kind !== 'hidden' ? field.label : null;
}

/** The form with another text in that place. */
export function withText(form: FormDefinition, part: PartId, text: string): FormDefinition {
  if (part === 'terms') return { ...form, terms: { ...form.terms, words: text } };
  if (part.startsWith('field:'))
    return { ...form, fields: form.fields.map((field) => (part === `field:${field.key}` ? { ...field, label: text } : field)) };
  return { ...form, [part]: text };
}
