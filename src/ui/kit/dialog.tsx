'use client';

import { type ReactNode, useState } from 'react';
import type { ActionResult } from '@/core/faults';
import { useAlive } from './alive';
import { Button } from './button';
import type { DialogForm } from './dialog-form';
import { onDemand } from './on-demand';

const Panel = onDemand<Parameters<typeof DialogForm>[0]>(() => import('./dialog-form').then((made) => made.DialogForm));
/** It is fetched as soon as somebody comes near. */
const near = { onPointerEnter: Panel.soon, onFocus: Panel.soon };

type Props = {
  /** What stands on the button that opens it, and what its name is where that differs. */
  opens: ReactNode;
  label?: string;
  title: string;
  words?: ReactNode;
  action: (data: FormData) => Promise<ActionResult<unknown>>;
  submit: string;
  done?: string;
  tone?: 'main' | 'harm';
  opensTone?: 'main' | 'plain' | 'harm' | 'quiet';
  children?: ReactNode;
};

/** A button that opens a form in a dialog. Esc and a click outside close it; it closes itself once the action has worked. */
export function ActionDialog({
  opens,
  label,
  title,
  words,
  action,
  submit,
  done,
  tone = 'main',
  opensTone = 'plain',
  children,
}: Props) {
  const [open, setOpen] = useState(false);
  const alive = useAlive();
  const run = async (data: FormData) => {
    const result = await action(data);
    if (result.ok) setOpen(false);
    return result;
  };
  return (
    <>
      {opensTone === 'quiet' ? (
        <button
          type="button"
          aria-label={label}
          disabled={!alive}
          className="link rounded-sm text-[13px] font-medium"
          onClick={() => setOpen(true)}
          {...near}
        >
          {opens}
        </button>
      ) : (
        <Button tone={opensTone} aria-label={label} onClick={() => setOpen(true)} {...near}>
          {opens}
        </Button>
      )}
      {open && (
        <Panel title={title} words={words} submit={submit} done={done} tone={tone} action={run} close={() => setOpen(false)}>
          {children}
        </Panel>
      )}
    </>
  );
}
