'use client';

import { Dialog, DialogPanel, DialogTitle } from '@headlessui/react';
import { type ReactNode, useState } from 'react';
import type { ActionResult } from '@/core/faults';
import { ActionForm } from './action-form';
import { Button } from './button';

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
          className="link rounded-sm text-[13px] font-medium"
          onClick={() => setOpen(true)}
        >
          {opens}
        </button>
      ) : (
        <Button tone={opensTone} aria-label={label} onClick={() => setOpen(true)}>
          {opens}
        </Button>
      )}
      <Dialog open={open} onClose={() => setOpen(false)} className="relative z-40">
        <div className="fixed inset-0 bg-ink/25" aria-hidden />
        <div className="fixed inset-0 flex items-start justify-center overflow-y-auto p-4 pt-[10vh]">
          <DialogPanel className="w-full max-w-md rounded-lg border bg-sheet p-5 shadow-float">
            <DialogTitle className="font-serif text-head">{title}</DialogTitle>
            {words && <p className="mt-1 text-[13px] text-ink-2">{words}</p>}
            <ActionForm
              action={run}
              submit={submit}
              done={done}
              tone={tone}
              className="mt-4"
              aside={
                <button
                  type="button"
                  className="px-2 text-[13.5px] font-medium text-ink-2 hover:text-ink"
                  onClick={() => setOpen(false)}
                >
                  Leave it
                </button>
              }
            >
              {children}
            </ActionForm>
          </DialogPanel>
        </div>
      </Dialog>
    </>
  );
}
