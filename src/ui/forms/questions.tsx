'use client';

import { ArrowDown, ArrowUp } from 'lucide-react';
import type { FormDefinition } from '@/core/forms/definition';
import { FIELD_KINDS, FIRST_NAME_FIELD, type FieldKind, type FormField, newField } from '@/core/forms/fields';
import type { PartId } from '@/core/forms/parts';
import { slugify } from '@/core/newsletters/slug';
import { Choice } from '../kit/controls';

export type Known = { key: string; label: string; kind: FieldKind; options: string[] };
type Props = {
  form: FormDefinition;
  set: (form: FormDefinition) => void;
  known: Known[];
  lists: { id: string; name: string }[];
  pick: (part: PartId) => void;
};

/** The form with one more question, under a name that it does not have yet, and that name. */
function withField(form: FormDefinition, field: FormField): [FormDefinition, PartId] {
  let { key } = field;
  for (let n = 2; form.fields.some((other) => other.key === key); n += 1) key = `${field.key.slice(0, 36)}_${n}`;
  return [{ ...form, fields: [...form.fields, { ...field, key }] }, `field:${key}`];
}

/** Puts something more into a form: a question, or what else may stand in it. What was put in is pointed at. */
export function AddPart({ form, set, known, lists, pick }: Props) {
  const rest = known.filter((field) => !form.fields.some((asked) => asked.key === field.key));
  const others: [id: string, label: string, missing: boolean, next: () => FormDefinition][] = [
    ['words', 'words under the heading', form.words === '', () => ({ ...form, words: 'New letters as they are written.' })],
    [
      'lists',
      'a choice of lists',
      form.listChoice.length === 0 && lists.length > 1,
      () => ({ ...form, listChoice: lists.map(({ id }) => id) }),
    ],
    ['consent', 'a tick they have to set', form.consent === '', () => ({ ...form, consent: 'I would like these letters.' })],
    [
      'terms',
      'small print under the button',
      form.terms.words === '',
      () => ({ ...form, terms: { ...form.terms, words: 'How we keep your address' } }),
    ],
    ['count', 'the number of readers', form.countFrom === 0, () => ({ ...form, countFrom: 100 })],
    ['picture', 'a picture', form.look.picture.url === '', () => form],
  ];
  const put = (what: string) => {
    const other = others.find(([id]) => `other:${id}` === what);
    if (other) {
      set(other[3]());
      return pick(other[0] as PartId);
    }
    const found = rest.find((field) => `known:${field.key}` === what);
    const field =
      what === 'first_name'
        ? FIRST_NAME_FIELD
        : found
          ? { ...newField(found.key, found.kind, found.label), options: found.options }
          : newField(
              slugify(what).replace(/-/g, '_'),
              what as FieldKind | 'hidden',
              what === 'hidden' ? 'Hidden' : `New: ${what}`,
            );
    const [next, part] = withField(form, field);
    set(next);
    pick(part);
  };
  return (
    <Choice
      label="Put in something more"
      value=""
      change={(what: string) => what && put(what)}
      choices={[
        { value: '', label: 'Choose what' },
        ...(form.fields.some((field) => field.key === 'first_name') ? [] : [{ value: 'first_name', label: 'First name' }]),
        ...rest.map((field) => ({ value: `known:${field.key}`, label: `${field.label} (asked elsewhere)` })),
        ...FIELD_KINDS.map((kind) => ({ value: kind as string, label: kind })),
        { value: 'hidden', label: 'hidden' },
        ...others.filter(([, , missing]) => missing).map(([id, label]) => ({ value: `other:${id}`, label })),
      ]}
      hint="Each further question costs you readers."
    />
  );
}

/** The questions of a form in their order, each moved with its two buttons. */
export function Questions({ form, set, pick }: Pick<Props, 'form' | 'set' | 'pick'>) {
  const { fields } = form;
  const move = (from: number, to: number) => {
    const next = [...fields];
    const [one] = next.splice(from, 1);
    next.splice(to, 0, one!);
    set({ ...form, fields: next });
  };
  return (
    <ol aria-label="Questions">
      {fields.map((field, n) => (
        <li key={field.key} className="flex items-center gap-1 border-b border-rule-2 py-1.5">
          <button type="button" className="min-w-0 flex-1 text-left" onClick={() => pick(`field:${field.key}`)}>
            <b className="block truncate text-[13.5px]">{field.label}</b>
            <span className="text-small text-ink-2">
              {field.kind === 'email'
                ? 'always asked'
                : `${field.kind}${field.kind === 'hidden' ? '' : field.required ? ', must be filled in' : ', may be left empty'}`}
            </span>
          </button>
          <button
            type="button"
            aria-label={`Move ${field.label} up`}
            disabled={n === 0}
            onClick={() => move(n, n - 1)}
            className="p-1.5 text-ink-2 disabled:opacity-30"
          >
            <ArrowUp size={15} aria-hidden />
          </button>
          <button
            type="button"
            aria-label={`Move ${field.label} down`}
            disabled={n === fields.length - 1}
            onClick={() => move(n, n + 1)}
            className="p-1.5 text-ink-2 disabled:opacity-30"
          >
            <ArrowDown size={15} aria-hidden />
          </button>
        </li>
      ))}
    </ol>
  );
}
