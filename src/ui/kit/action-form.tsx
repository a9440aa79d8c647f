'use client';

import clsx from 'clsx';
import {
  createContext,
  type InputHTMLAttributes,
  type ReactNode,
  type SelectHTMLAttributes,
  type TextareaHTMLAttributes,
  useContext,
  useId,
  useState,
  useTransition,
} from 'react';
import { toast } from 'sonner';
import type { ActionResult, FaultValue } from '@/core/faults';
import { useAlive } from './alive';
import { Button } from './button';

const Faults = createContext<Record<string, string>>({});

export type FormAction = (data: FormData) => Promise<ActionResult<unknown>>;
type Props = {
  action: FormAction;
  submit: string;
  done?: string;
  children: ReactNode;
  aside?: ReactNode;
  tone?: 'main' | 'plain' | 'harm';
  clears?: boolean;
  className?: string;
};

/**
 * A form that sends itself to a server action. What was typed stays when something is wrong; the sentence stands above the button and
 * beside its field, and the first field at fault gets the focus. Once it is done, that is said: as `done` has it, or else as the action says. What was made gets it where the page shows it under the id that the action answers.
 */
export function ActionForm({ action, submit, done, children, aside, tone = 'main', clears, className }: Props) {
  const [fault, setFault] = useState<FaultValue | null>(null);
  const [pending, begin] = useTransition();
  const id = useId();
  // Before the page has come alive a click would send the form the plain way and lose what was typed.
  const alive = useAlive();
  return (
    <form
      noValidate
      className={clsx('space-y-4', className)}
      aria-describedby={fault ? id : undefined}
      onSubmit={(event) => {
        event.preventDefault();
        const form = event.currentTarget;
        begin(async () => {
          const result = await answerOf(action(new FormData(form)));
          if (!result) return;
          setFault(result.ok ? null : result.error);
          if (result.ok) {
            const told = done ?? (result.value as { said?: string } | null | undefined)?.said;
            if (told) toast.success(told);
            if (clears) form.reset();
            focusMade(result.value);
          } else {
            const field = Object.keys(result.error.fields ?? {})[0];
            const input = field ? form.elements.namedItem(field) : null;
            if (input instanceof HTMLElement) input.focus();
          }
        });
      }}
    >
      <Faults value={fault?.fields ?? {}}>{children}</Faults>
      {fault && (
        <p id={id} role="alert" className="border-l-2 border-l-stamp py-0.5 pl-3 text-[13px] text-stamp">
          {fault.sentence}
        </p>
      )}
      <div className="flex flex-wrap items-center gap-3">
        <Button type="submit" tone={tone} disabled={pending || !alive} aria-busy={pending}>
          {submit}
        </Button>
        {aside}
      </div>
    </form>
  );
}

const PATIENCE_MS = 5_000;

/** The focus goes to what was made, once it stands on the page under its id. */
function focusMade(value: unknown): void {
  const id = (value as { id?: unknown } | null | undefined)?.id;
  if (typeof id !== 'string') return;
  const go = () => {
    const made = document.getElementById(id);
    made?.focus();
    return made !== null;
  };
  if (go()) return;
  const watching = new MutationObserver(() => go() && watching.disconnect());
  watching.observe(document.body, { childList: true, subtree: true });
  setTimeout(() => watching.disconnect(), PATIENCE_MS);
}

/** What an action answered, or that we could not be reached; null where it leads to another page, which is no fault. */
const answerOf = (asked: Promise<ActionResult<unknown>>): Promise<ActionResult<unknown> | null> =>
  asked.catch((error: unknown) =>
    String((error as { digest?: unknown } | null)?.digest).startsWith('NEXT_REDIRECT') ? null : AWAY,
  );

/** Said when the server cannot be reached at all. */
const AWAY: ActionResult = {
  ok: false,
  error: { code: 'unreachable', sentence: 'We could not be reached. What you typed is still here; please try again.' },
};

type Common = { name: string; label: string; hint?: ReactNode };
const BOX =
  'block w-full rounded-md border bg-sheet px-2.5 py-2 text-[13.5px] leading-5 text-ink aria-[invalid=true]:border-stamp';

function Labelled({
  name,
  label,
  hint,
  render,
}: Common & {
  render: (props: { id: string; 'aria-invalid': boolean | undefined; 'aria-describedby': string | undefined }) => ReactNode;
}) {
  const id = useId();
  const fault = useContext(Faults)[name];
  return (
    <div>
      <label htmlFor={id} className="mb-1 block text-small font-semibold text-ink-2">
        {label}
      </label>
      {render({
        id,
        'aria-invalid': fault ? true : undefined,
        'aria-describedby': fault ? `${id}-fault` : hint ? `${id}-hint` : undefined,
      })}
      {fault ? (
        <p id={`${id}-fault`} className="mt-1 text-small text-stamp">
          {fault}
        </p>
      ) : (
        hint && (
          <p id={`${id}-hint`} className="mt-1 text-small text-ink-2">
            {hint}
          </p>
        )
      )}
    </div>
  );
}

export function TextField({ label, hint, mono, ...rest }: Common & { mono?: boolean } & InputHTMLAttributes<HTMLInputElement>) {
  return (
    <Labelled
      name={rest.name}
      label={label}
      hint={hint}
      render={(ids) => <input type="text" {...rest} {...ids} className={clsx(BOX, mono && 'font-mono')} />}
    />
  );
}

export function LongField({ label, hint, ...rest }: Common & TextareaHTMLAttributes<HTMLTextAreaElement>) {
  return (
    <Labelled
      name={rest.name}
      label={label}
      hint={hint}
      render={(ids) => <textarea rows={3} {...rest} {...ids} className={BOX} />}
    />
  );
}

export function ChoiceField({
  label,
  hint,
  choices,
  ...rest
}: Common & { choices: { value: string; label: string }[] } & SelectHTMLAttributes<HTMLSelectElement>) {
  return (
    <Labelled
      name={rest.name}
      label={label}
      hint={hint}
      render={(ids) => (
        <select {...rest} {...ids} className={BOX}>
          {choices.map((choice) => (
            <option key={choice.value} value={choice.value}>
              {choice.label}
            </option>
          ))}
        </select>
      )}
    />
  );
}

/** A colour, chosen by eye or typed. The two inputs are one value; the typed one is sent. */
export function ColourField({ label, hint, name, defaultValue }: Common & { defaultValue: string }) {
  const [value, setValue] = useState(defaultValue);
  const well = /^#[0-9a-f]{6}$/i.test(value) ? value : '#000000';
  return (
    <Labelled
      name={name}
      label={label}
      hint={hint}
      render={(ids) => (
        <span className="flex gap-2">
          <input
            type="color"
            aria-label={`${label}, by eye`}
            value={well}
            onChange={(event) => setValue(event.target.value)}
            className="h-[38px] w-12 rounded-md border bg-sheet p-1"
          />
          <input
            type="text"
            name={name}
            value={value}
            onChange={(event) => setValue(event.target.value)}
            {...ids}
            className={clsx(BOX, 'font-mono')}
          />
        </span>
      )}
    />
  );
}

export function FileField({ label, hint, ...rest }: Common & InputHTMLAttributes<HTMLInputElement>) {
  return (
    <Labelled
      name={rest.name}
      label={label}
      hint={hint}
      render={(ids) => (
        <input
          type="file"
          {...rest}
          {...ids}
          className="block w-full text-[13px] text-ink-2 file:mr-3 file:rounded-md file:border file:border-solid file:border-rule file:bg-sheet file:px-3 file:py-1.5 file:font-semibold file:text-ink"
        />
      )}
    />
  );
}

type ButtonProps = {
  action: () => Promise<ActionResult<unknown>>;
  done?: string /** Names the field of the result that says how it went. */;
  said?: string;
  children: ReactNode;
  tone?: 'main' | 'plain' | 'harm' | 'quiet';
};

/** A single button that runs an action and says how it went. */
export function ActionButton({ action, done, said, children, tone = 'plain' }: ButtonProps) {
  const [pending, begin] = useTransition();
  const alive = useAlive();
  const shared = {
    disabled: pending || !alive,
    'aria-busy': pending,
    onClick: () =>
      begin(async () => {
        const result = await answerOf(action());
        if (!result) return;
        if (!result.ok) toast.error(result.error.sentence);
        else if (said) toast.success(String((result.value as Record<string, unknown>)[said]));
        else if (done) toast.success(done);
      }),
  };
  return tone === 'quiet' ? (
    <button type="button" {...shared} className="link rounded-sm text-[13px] font-medium">
      {children}
    </button>
  ) : (
    <Button tone={tone} {...shared}>
      {children}
    </Button>
  );
}
