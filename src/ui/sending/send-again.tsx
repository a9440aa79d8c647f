'use client';

import type { ActionResult } from '@/core/faults';
import { counted } from '@/core/growth/figures';
import { type Audience, onlyUnread } from '@/core/sending/audience';
import { TextField } from '../kit/action-form';
import { ActionDialog } from '../kit/dialog';
import { useAsked } from './use-asked';

type Props = {
  id: string;
  base: string;
  subject: string;
  audience: Audience;
  once: (data: FormData) => Promise<ActionResult<unknown>>;
};

/** Begins a letter once more, for those who did not open it; how many those are is asked for when somebody means to. */
export function SendAgain({ id, base, subject, audience, once }: Props) {
  return (
    <ActionDialog
      opens="Send again …"
      title="Once more, to those who did not open it"
      words="A draft is begun with the same words. Whoever opens the first one before it leaves is left out, and so is everybody whose reading cannot be seen. It can be done once."
      submit="Begin it"
      action={once}
    >
      <People address={`${base}/reach`} audience={onlyUnread(audience, id)} />
      <TextField name="subject" label="Another subject" maxLength={200} required hint={`The first time it was “${subject}”.`} />
    </ActionDialog>
  );
}

function People({ address, audience }: { address: string; audience: Audience }) {
  const { answer, fault } = useAsked<{ soon: { will: number; exact: boolean } }>(
    address,
    JSON.stringify({ audience, soon: true }),
    0,
  );
  return (
    <p className="text-[13.5px]" aria-live="polite">
      {fault ??
        (answer ? (
          <>
            As of now that is{' '}
            <b>
              {answer.soon.exact ? '' : 'about '}
              {counted(answer.soon.will, 'person', 'people')}
            </b>
            .
          </>
        ) : (
          'Counting …'
        ))}
    </p>
  );
}
