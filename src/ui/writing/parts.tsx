'use client';

import clsx from 'clsx';
import { CircleCheck, CloudOff, PenLine } from 'lucide-react';
import { type ReactNode, useRef } from 'react';
import { typedChip } from '@/core/writing/line';
import type { Saving } from './saving';

/* The small pieces around what is written: how it stands, and the fields beside it. */

export const clock = (at: string, zone: string) =>
  new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit', timeZone: zone }).format(new Date(at));

/** How what is written stands. */
export function State({ state, zone }: { state: Saving; zone: string }) {
  const said = {
    saved: () => `Saved ${clock((state as { at: string }).at, zone)}`,
    unsaved: () => 'Not saved yet',
    saving: () => 'Saving',
    offline: () => 'Offline, kept here',
    elsewhere: () => 'Written elsewhere',
    refused: () => 'Kept here, not saved',
  }[state.kind]();
  const Sign = state.kind === 'saved' ? CircleCheck : state.kind === 'offline' || state.kind === 'refused' ? CloudOff : PenLine;
  return (
    <span
      role="status"
      className={clsx(
        'flex items-center gap-1.5 text-[13px]',
        state.kind === 'offline' || state.kind === 'refused' ? 'text-stamp' : 'text-ink-2',
      )}
    >
      <Sign size={16} aria-hidden />
      {said}
    </span>
  );
}

export const Band = ({ children }: { children: ReactNode }) => (
  <section aria-label="Mind this" role="alert" className="border-b border-stamp bg-stamp-tint px-4 py-2.5 text-[13.5px] sm:px-7">
    {children}
  </section>
);

type FieldProps = { label: string; value: string; placeholder?: string; disabled: boolean; change: (value: string) => void };
const BOX = 'block w-full rounded-md border bg-sheet px-2.5 py-2 text-[13.5px] leading-5';
/** A line; with `chip` a place for the reader's name can be put in where the cursor stands. */
export function Field({ label, change, chip, ...rest }: FieldProps & { chip?: boolean }) {
  const box = useRef<HTMLInputElement>(null);
  const put = () => {
    const at = box.current?.selectionStart ?? rest.value.length;
    const said = typedChip({ field: 'first_name', fallback: 'reader' });
    change(rest.value.slice(0, at) + said + rest.value.slice(box.current?.selectionEnd ?? at));
    box.current?.focus();
  };
  return (
    <div>
      <label className="block">
        <span className="mb-1 block text-small font-semibold text-ink-2">{label}</span>
        <input ref={box} {...rest} onChange={(event) => change(event.target.value)} className={BOX} />
      </label>
      {chip && (
        <button type="button" disabled={rest.disabled} onClick={put} className="link mt-1 text-small">
          Put in the reader’s name
        </button>
      )}
    </div>
  );
}

type PickProps = Omit<FieldProps, 'placeholder'> & { of: { id: string; label: string }[]; none?: string };
export const Pick = ({ label, value, of, disabled, change, none }: PickProps) => (
  <label className="block">
    <span className="mb-1 block text-small font-semibold text-ink-2">{label}</span>
    <select value={value} disabled={disabled} onChange={(event) => change(event.target.value)} className={BOX}>
      {(none !== undefined || !of.some((one) => one.id === value)) && <option value="">{none ?? 'Choose one'}</option>}
      {of.map((one) => (
        <option key={one.id} value={one.id}>
          {one.label}
        </option>
      ))}
    </select>
  </label>
);

type GrownProps = FieldProps & { id?: string; className: string; next: () => void };
/** A line that grows with its words; Enter goes on to what comes next. */
export function Grown({ id, label, value, placeholder, disabled, change, className, next }: GrownProps) {
  return (
    <textarea
      id={id}
      aria-label={label}
      rows={1}
      value={value}
      placeholder={placeholder}
      disabled={disabled}
      onChange={(event) => change(event.target.value.replace(/\n/g, ' '))}
      onKeyDown={(event) => {
        if (event.key !== 'Enter') return;
        event.preventDefault();
        next();
      }}
      className={clsx('block w-full resize-none bg-transparent [field-sizing:content] focus:outline-none', className)}
    />
  );
}
