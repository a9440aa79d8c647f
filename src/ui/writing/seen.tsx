'use client';

import { useCallback, useEffect, useState } from 'react';
import { toast } from 'sonner';
import type { ActionResult } from '@/core/faults';
import { LongField } from '../kit/action-form';
import { ActionDialog } from '../kit/dialog';
import { LetterPreview } from '../sending/letter-preview';

type Made = {
  html: string;
  text: string;
  web: string;
  /** The text as its writer may change it; whether it is theirs; and whether the letter still says the same. */
  edit: string;
  own: boolean;
  follows: boolean;
  as: string;
};
type Props = { base: string; saveText: (data: FormData) => Promise<ActionResult<unknown>> };

/** The letter as it is saved, made into what readers see: as nobody in particular, or as one of them. */
export function Seen({ base, saveText }: Props) {
  const [made, setMade] = useState<Made | null>(null);
  const [as, setAs] = useState('');
  const load = useCallback(
    (who: string) =>
      fetch(`${base}/preview?as=${encodeURIComponent(who)}`)
        .then(async (response) => {
          const answer = await response.json();
          if (!response.ok) throw new Error(answer?.sentence);
          setMade(answer);
        })
        .catch((error: Error) => void toast.error(error.message || 'It cannot be shown at the moment. What you wrote is kept.')),
    [base],
  );
  useEffect(() => {
    void load('');
  }, [load]);
  if (!made) return <p className="p-8 text-ink-2">Making it …</p>;
  const keep = async (data: FormData) => {
    const result = await saveText(data);
    if (result.ok) void load(as);
    return result;
  };
  return (
    <>
      <form
        className="flex flex-wrap items-end gap-2 text-[13px]"
        onSubmit={(event) => {
          event.preventDefault();
          void load(as);
        }}
      >
        <label className="min-w-56 flex-1">
          <span className="mb-1 block text-small font-semibold text-ink-2">As this reader</span>
          <input
            value={as}
            type="email"
            onChange={(event) => setAs(event.target.value)}
            placeholder="Their address; empty: who gave no name"
            className="block w-full rounded-md border bg-sheet px-2.5 py-2"
          />
        </label>
        <button type="submit" className="rounded-md border bg-sheet px-3 py-2 font-medium">
          See it as theirs
        </button>
        <span className="w-full text-small text-ink-2">{made.as}</span>
      </form>
      <LetterPreview html={made.html} text={made.text} web={made.web}>
        <div className="mb-2 flex flex-wrap items-center gap-x-4 gap-y-1 text-[13px] text-ink-2">
          <span>
            {!made.own && 'It says what the letter says.'}
            {made.own && made.follows && 'These are your own words; the letter has not changed since.'}
            {made.own && !made.follows && (
              <b className="text-ochre">These are your own words, and the letter has changed since.</b>
            )}
          </span>
          <ActionDialog
            opens="Write it yourself"
            opensTone="quiet"
            title="The text of this letter"
            words="For readers who want no other, and programs that show no other. The lines that every letter ends with stand under it all the same."
            submit="Keep it"
            done="The text is yours now"
            action={keep}
          >
            <LongField name="text" label="Text" rows={18} defaultValue={made.edit} />
          </ActionDialog>
          {made.own && (
            <ActionDialog
              opens="Have it follow again"
              opensTone="quiet"
              title="Have the text follow the letter again?"
              words="Your own words for it are gone then."
              submit="Follow again"
              done="It follows the letter"
              action={() => keep(new FormData())}
            />
          )}
        </div>
      </LetterPreview>
    </>
  );
}
