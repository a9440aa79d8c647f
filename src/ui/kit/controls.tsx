'use client';

import { type ReactNode, useId } from 'react';

const BOX = 'block w-full rounded-md border bg-sheet px-2.5 py-2 text-[13.5px] leading-5';
type Base = { label: string; hint?: string };

function Labelled({ label, hint, children }: Base & { children: (id: string) => ReactNode }) {
  const id = useId();
  return (
    <div>
      <label htmlFor={id} className="mb-1 block text-small font-semibold text-ink-2">
        {label}
      </label>
      {children(id)}
      {hint && <p className="mt-1 text-small text-ink-2">{hint}</p>}
    </div>
  );
}

/** A line or some lines of text, told of each change. */
export function Words({
  label,
  hint,
  value,
  change,
  long,
  type = 'text',
  placeholder,
}: Base & { value: string; change: (value: string) => void; long?: boolean; type?: string; placeholder?: string }) {
  const props = {
    value,
    placeholder,
    onChange: (event: { target: { value: string } }) => change(event.target.value),
    className: BOX,
  };
  return (
    <Labelled label={label} hint={hint}>
      {(id) => (long ? <textarea id={id} rows={3} {...props} /> : <input id={id} type={type} {...props} />)}
    </Labelled>
  );
}

export function Choice<T extends string>({
  label,
  hint,
  value,
  change,
  choices,
}: Base & { value: T; change: (value: T) => void; choices: readonly (T | { value: T; label: string })[] }) {
  return (
    <Labelled label={label} hint={hint}>
      {(id) => (
        <select id={id} value={value} onChange={(event) => change(event.target.value as T)} className={BOX}>
          {choices.map((choice) => {
            const one = typeof choice === 'string' ? { value: choice, label: choice } : choice;
            return (
              <option key={one.value} value={one.value}>
                {one.label}
              </option>
            );
          })}
        </select>
      )}
    </Labelled>
  );
}

export function Tick({ label, hint, on, change }: Base & { on: boolean; change: (on: boolean) => void }) {
  return (
    <label className="flex items-start gap-2.5">
      <input
        type="checkbox"
        className="mt-0.5 size-4 shrink-0 accent-verdigris"
        checked={on}
        onChange={(event) => change(event.target.checked)}
      />
      <span>
        <b className="block text-[13.5px] font-semibold">{label}</b>
        {hint && <span className="text-small text-ink-2">{hint}</span>}
      </span>
    </label>
  );
}

export function Amount({
  label,
  hint,
  value,
  change,
  least = 0,
  most,
}: Base & { value: number; change: (value: number) => void; least?: number; most: number }) {
  return (
    <Labelled label={label} hint={hint}>
      {(id) => (
        <input
          id={id}
          type="number"
          min={least}
          max={most}
          value={value}
          onChange={(event) => change(Math.max(least, Math.min(most, Math.round(Number(event.target.value) || 0))))}
          className={BOX}
        />
      )}
    </Labelled>
  );
}

export function Colour({ label, value, change }: Base & { value: string; change: (value: string) => void }) {
  return (
    <Labelled label={label}>
      {(id) => (
        <span className="flex gap-2">
          <input
            type="color"
            aria-label={`${label}, by eye`}
            value={/^#[0-9a-f]{6}$/i.test(value) ? value : '#000000'}
            onChange={(event) => change(event.target.value)}
            className="h-[38px] w-11 shrink-0 rounded-md border bg-sheet p-1"
          />
          <input
            id={id}
            type="text"
            value={value}
            onChange={(event) => change(event.target.value)}
            className={`${BOX} font-mono`}
          />
        </span>
      )}
    </Labelled>
  );
}

type InkProps = Base & {
  /** '' for what the ground asks. */
  value: string;
  /** The ink as it is, and its contrast with what it stands on. */
  shown: string;
  ratio: number;
  /** What is said where it is not set. */
  asked: string;
  change: (value: string) => void;
};

/** An ink: as what it stands on asks, or one's own; its contrast is said. */
export function Ink({ label, value, shown, ratio, asked, change }: InkProps) {
  return (
    <Labelled label={label}>
      {(id) => (
        <>
          <span className="flex items-center gap-2 rounded-md border bg-sheet px-2.5 py-2">
            <span aria-hidden className="size-4 shrink-0 rounded-xs border" style={{ background: shown }} />
            <select
              id={id}
              value={value ? 'own' : ''}
              onChange={(event) => change(event.target.value ? shown : '')}
              className="min-w-0 flex-1 bg-transparent text-[13.5px] leading-5"
            >
              <option value="">{asked}</option>
              <option value="own">an ink of its own</option>
            </select>
            <span className="shrink-0 font-mono text-[12px] whitespace-nowrap">{ratio.toFixed(1)} : 1</span>
          </span>
          {value !== '' && (
            <span className="mt-2 block">
              <Colour label={`${label}, its colour`} value={value} change={change} />
            </span>
          )}
        </>
      )}
    </Labelled>
  );
}
