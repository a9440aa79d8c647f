'use client';

import { ArrowDown, ArrowUp, GripVertical, SlidersHorizontal } from 'lucide-react';
import { useState } from 'react';
import type { FormDefinition } from '@/core/forms/definition';
import { FIELD_KINDS, FIRST_NAME_FIELD, type FieldKind, type FormField, newField } from '@/core/forms/fields';
import { slugify } from '@/core/newsletters/slug';
import { Button } from '../kit/button';
import { Choice, Tick, Words } from './controls';

type Known = { key: string; label: string; kind: FieldKind; options: string[] };
type Props = {
  definition: FormDefinition;
  set: (part: Partial<FormDefinition>) => void;
  known: Known[];
  lists: { id: string; name: string }[];
};

/** What the form asks: its fields in order, moved by drag or by keyboard, each with what can be said of it. */
export function FieldsPart({ definition, set, known, lists }: Props) {
  const [open, setOpen] = useState<string | null>(null);
  const [dragged, setDragged] = useState<number | null>(null);
  const { fields } = definition;
  const move = (from: number, to: number) => {
    if (to < 0 || to >= fields.length || from === to) return;
    const next = [...fields];
    const [one] = next.splice(from, 1);
    next.splice(to, 0, one!);
    set({ fields: next });
  };
  const change = (key: string, part: Partial<FormField>) =>
    set({ fields: fields.map((field) => (field.key === key ? { ...field, ...part } : field)) });
  const add = (field: FormField) => {
    let { key } = field;
    for (let n = 2; fields.some((other) => other.key === key); n += 1) key = `${field.key.slice(0, 36)}_${n}`;
    set({ fields: [...fields, { ...field, key }] });
    setOpen(key);
  };
  const rest = known.filter((field) => !fields.some((asked) => asked.key === field.key));
  return (
    <>
      <ol className="space-y-1.5">
        {fields.map((field, n) => (
          <li
            key={field.key}
            draggable
            onDragStart={() => setDragged(n)}
            onDragOver={(event) => event.preventDefault()}
            onDrop={() => dragged !== null && move(dragged, n)}
            className="rounded-md border bg-sheet"
          >
            <div className="flex items-center gap-2 px-2 py-1.5">
              <GripVertical size={15} aria-hidden className="cursor-grab text-ink-3" />
              <button
                type="button"
                className="min-w-0 flex-1 text-left"
                aria-expanded={open === field.key}
                onClick={() => setOpen(open === field.key ? null : field.key)}
              >
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
                className="p-1 text-ink-2 disabled:opacity-30"
              >
                <ArrowUp size={15} aria-hidden />
              </button>
              <button
                type="button"
                aria-label={`Move ${field.label} down`}
                disabled={n === fields.length - 1}
                onClick={() => move(n, n + 1)}
                className="p-1 text-ink-2 disabled:opacity-30"
              >
                <ArrowDown size={15} aria-hidden />
              </button>
              <SlidersHorizontal size={15} aria-hidden className="text-ink-3" />
            </div>
            {open === field.key && (
              <div className="space-y-3 border-t px-3 py-3">
                <Words label="What stands over it" value={field.label} change={(label) => change(field.key, { label })} />
                {field.kind === 'hidden' ? (
                  <Words label="What it sends" value={field.value} change={(value) => change(field.key, { value })} />
                ) : (
                  <>
                    {!['yes/no', 'several choices', 'choice'].includes(field.kind) && (
                      <Words
                        label="Shown while it is empty"
                        value={field.placeholder}
                        change={(placeholder) => change(field.key, { placeholder })}
                      />
                    )}
                    <Words label="Help under it" value={field.help} change={(help) => change(field.key, { help })} />
                    {field.kind.includes('choice') && (
                      <Words
                        long
                        label="Choices, one a line"
                        value={field.options.join('\n')}
                        change={(text) => change(field.key, { options: text.split('\n') })}
                      />
                    )}
                    <Choice
                      label="Width"
                      value={field.width}
                      change={(width) => change(field.key, { width })}
                      choices={[
                        { value: 'full', label: 'a whole line' },
                        { value: 'half', label: 'beside another' },
                      ]}
                    />
                    {field.kind !== 'email' && (
                      <Tick
                        label="Must be filled in"
                        on={field.required}
                        change={(required) => change(field.key, { required })}
                      />
                    )}
                  </>
                )}
                {field.kind !== 'email' && (
                  <Button onClick={() => set({ fields: fields.filter((other) => other.key !== field.key) })}>
                    Take it out of this form
                  </Button>
                )}
              </div>
            )}
          </li>
        ))}
      </ol>
      <div className="grid grid-cols-2 gap-2">
        <Choice
          label="Ask something more"
          value=""
          change={(kind: string) => {
            if (kind === 'first_name') return add(FIRST_NAME_FIELD);
            const found = rest.find((field) => `known:${field.key}` === kind);
            if (found) return add({ ...newField(found.key, found.kind, found.label), options: found.options });
            if (kind)
              add(
                newField(
                  slugify(kind).replace(/-/g, '_'),
                  kind as FieldKind | 'hidden',
                  kind === 'hidden' ? 'Hidden' : `New: ${kind}`,
                ),
              );
          }}
          choices={[
            { value: '', label: 'Choose a kind' },
            ...(fields.some((field) => field.key === 'first_name') ? [] : [{ value: 'first_name', label: 'First name' }]),
            ...rest.map((field) => ({ value: `known:${field.key}`, label: `${field.label} (asked elsewhere)` })),
            ...FIELD_KINDS.map((kind) => ({ value: kind as string, label: kind })),
            { value: 'hidden', label: 'hidden' },
          ]}
        />
        <p className="self-end pb-2 text-small text-ink-2">Each further question costs you readers.</p>
      </div>
      {lists.length > 1 && (
        <fieldset>
          <legend className="mb-1 text-small font-semibold text-ink-2">Let them choose among lists</legend>
          {lists.map((list) => (
            <Tick
              key={list.id}
              label={list.name}
              on={definition.listChoice.includes(list.id)}
              change={(on) =>
                set({
                  listChoice: on ? [...definition.listChoice, list.id] : definition.listChoice.filter((id) => id !== list.id),
                })
              }
            />
          ))}
        </fieldset>
      )}
      <Words
        label="A tick they have to set"
        value={definition.consent}
        change={(consent) => set({ consent })}
        hint="Its wording is kept with their consent. Leave it empty for none."
      />
      <div className="grid grid-cols-2 gap-2">
        <Words
          label="A line under the button"
          value={definition.terms.words}
          change={(words) => set({ terms: { ...definition.terms, words } })}
        />
        <Words
          label="It leads to"
          type="url"
          value={definition.terms.url}
          change={(url) => set({ terms: { ...definition.terms, url } })}
          placeholder="https://"
        />
      </div>
    </>
  );
}
