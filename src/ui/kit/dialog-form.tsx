'use client';

import { Dialog, DialogPanel, DialogTitle } from '@headlessui/react';
import type { ReactNode } from 'react';
import type { ActionResult } from '@/core/faults';
import { ActionForm } from './action-form';

type Props = {
  title: string;
  words?: ReactNode;
  action: (data: FormData) => Promise<ActionResult<unknown>>;
  submit: string;
  done?: string;
  tone?: 'main' | 'harm';
  close: () => void;
  children?: ReactNode;
};

/** A form in a dialog. Esc and a click outside close it. */
export function DialogForm({ title, words, action, submit, done, tone, close, children }: Props) {
  return (
    <Dialog open onClose={close} className="relative z-40">
      <div className="fixed inset-0 bg-ink/25" aria-hidden />
      <div className="fixed inset-0 flex items-start justify-center overflow-y-auto p-4 pt-[10vh]">
        <DialogPanel className="w-full max-w-md rounded-lg border bg-sheet p-5 shadow-float">
          <DialogTitle className="font-serif text-head">{title}</DialogTitle>
          {words && <p className="mt-1 text-[13px] text-ink-2">{words}</p>}
          <ActionForm
            action={action}
            submit={submit}
            done={done}
            tone={tone}
            className="mt-4"
            aside={
              <button type="button" className="px-2 text-[13.5px] font-medium text-ink-2 hover:text-ink" onClick={close}>
                Leave it
              </button>
            }
          >
            {children}
          </ActionForm>
        </DialogPanel>
      </div>
    </Dialog>
  );
}
