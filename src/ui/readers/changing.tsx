'use client';

import { useState } from 'react';
import type { ActionResult } from '@/core/faults';
import { FIELD_KINDS, type FieldKind } from '@/core/forms/fields';
import { counted, figure, plural } from '@/core/growth/figures';
import type { KindChange, Merging, Stands } from '@/core/readers/merging';
import type { ReaderState } from '@/core/readers/state';
import { ChoiceField, TextField } from '../kit/action-form';
import { ActionDialog } from '../kit/dialog';

const STANDS: Record<Exclude<Stands, null>, string> = {
  reading: 'read',
  waiting: 'wait for',
  left: 'left',
  'taken off': 'were taken off',
};
const BECOME: Record<ReaderState, string> = {
  reading: 'will read it',
  waiting: 'will wait to confirm it',
  left: 'will have left it',
};

/** Asks the server something that may change as one chooses, and keeps the latest answer. */
function useLook<T>(look: (of: string) => Promise<ActionResult<T>>) {
  const [found, setFound] = useState<{ of: string; value?: T; fault?: string } | null>(null);
  const ask = async (of: string) => {
    setFound({ of });
    if (!of) return;
    const result = await look(of).catch(
      (): ActionResult<T> => ({ ok: false, error: { code: 'unreachable', sentence: 'We could not be reached.' } }),
    );
    setFound((now) =>
      now?.of === of ? { of, ...(result.ok ? { value: result.value } : { fault: result.error.sentence }) } : now,
    );
  };
  return { found, ask };
}

type MergeProps = {
  name: string;
  others: { id: string; name: string }[];
  look: (into: string) => Promise<ActionResult<Merging>>;
  merge: (data: FormData) => Promise<ActionResult<unknown>>;
};

/** Lets a list go into another, after what becomes of everybody was shown. */
export function MergeList({ name, others, look, merge }: MergeProps) {
  const { found, ask } = useLook(look);
  const into = found?.value?.into;
  return (
    <ActionDialog
      opens="Merge"
      opensTone="quiet"
      label={`Merge ${name}`}
      title={`Let “${name}” go into another list`}
      words="What names it (forms, auto-sends, segments, letters) names the other from then on. This cannot be taken back."
      submit="Merge them"
      done="One list now"
      tone="harm"
      action={merge}
    >
      <ChoiceField
        name="into"
        label="Into which?"
        defaultValue=""
        choices={[{ value: '', label: 'Choose one' }, ...others.map(({ id, name: label }) => ({ value: id, label }))]}
        onChange={(event) => void ask(event.target.value)}
      />
      <div role="status" className="text-[13.5px]">
        {found?.of && !found.value && !found.fault && 'Looking at who is on them'}
        {found?.fault && <span className="text-stamp">{found.fault}</span>}
        {found?.value && (
          <ul className="space-y-1">
            {found.value.people.length === 0 && <li>Nobody is on “{name}”.</li>}
            {found.value.people.map((part) => (
              <li key={`${part.from} ${part.into}`}>
                <b>{figure(part.n)}</b> who {STANDS[part.from!]} “{name}”{part.into ? ` and ${STANDS[part.into]} “${into}”` : ''}:{' '}
                {part.become ? BECOME[part.become] : 'are not carried over'}.
              </li>
            ))}
          </ul>
        )}
      </div>
    </ActionDialog>
  );
}

type KindProps = {
  name: string;
  kind: FieldKind;
  look: (kind: string) => Promise<ActionResult<KindChange>>;
  change: (data: FormData) => Promise<ActionResult<unknown>>;
};

/** Makes a field one of another kind, after what becomes of its answers was shown. */
export function KindField({ name, kind, look, change }: KindProps) {
  const { found, ask } = useLook(look);
  const value = found?.value;
  return (
    <ActionDialog
      opens="Another kind"
      label={`Make ${name} another kind`}
      opensTone="quiet"
      title={`Make “${name}” another kind`}
      words="Questions in forms follow. Answers that do not fit go for good."
      submit="Change it"
      done="Changed"
      tone="harm"
      action={change}
    >
      <ChoiceField
        name="kind"
        label="Kind"
        defaultValue=""
        choices={[
          { value: '', label: `Now: ${kind}` },
          ...FIELD_KINDS.filter((one) => one !== kind).map((one) => ({ value: one, label: one })),
        ]}
        onChange={(event) => void ask(event.target.value)}
      />
      <div role="status" className="space-y-1 text-[13.5px]">
        {found?.of && !value && !found.fault && 'Looking at the answers'}
        {found?.fault && <span className="text-stamp">{found.fault}</span>}
        {value && (
          <>
            <p>
              <b>{counted(value.fits, 'answer fits', 'answers fit')}</b>
              {value.lost > 0
                ? `; ${counted(value.lost, 'does not and goes', 'do not and go')}, such as ${value.examples.map((one) => `“${one}”`).join(', ')}.`
                : '; none is lost.'}
            </p>
            {value.options.length > 0 && <p className="text-ink-2">Choices: {value.options.join(', ')}.</p>}
          </>
        )}
      </div>
      {value && value.lost > 0 && (
        <TextField
          name="typed"
          label={`Type ${value.lost} to let ${plural(value.lost, 'it', 'them')} go`}
          inputMode="numeric"
          autoComplete="off"
        />
      )}
    </ActionDialog>
  );
}
