'use client';

import type { ReactNode } from 'react';
import { toast } from 'sonner';
import type { ActionResult } from '@/core/faults';
import { counted, figure } from '@/core/growth/figures';
import type { Condition } from '@/core/readers/condition';
import { ChoiceField, LongField, TextField } from '../kit/action-form';
import { ActionDialog } from '../kit/dialog';
import { ExportFields, exportSaid } from './export-fields';

export type BulkProps = {
  act: (raw: unknown) => Promise<ActionResult<unknown>>;
  /** Whom all of the view are: what is sent when somebody takes them all. */
  view: { condition: Condition; find: string };
  /** How many they are; null while that is being counted. */
  people: number | null;
  lists: { id: string; name: string }[];
  tags: string[];
  /** Writes a file of them. */
  take: (raw: unknown) => Promise<ActionResult<unknown>>;
  fields: { id: string; label: string }[];
};

type Props = BulkProps & {
  /** Whoever was picked one by one; null for everyone of the view. */
  chosen: string[] | null;
  whole: boolean;
  takeWhole: () => void;
  clear: () => void;
  aside: ReactNode;
};

/** What can be done to those who are chosen, with how many they are said each time. */
export function BulkBar({ act, take, view, people, lists, tags, fields, chosen, whole, takeWhole, clear, aside }: Props) {
  const many = whole ? people : chosen!.length;
  const whom = whole ? view : { ids: chosen! };
  const who = many === null ? 'everyone here' : counted(many, 'reader', 'readers');
  const run = async (kind: string, what: object) => {
    const result = await act({ act: kind, what, whom });
    if (result.ok) {
      toast.success('It has begun; how far it is stands under “Under way”.');
      clear();
    }
    return result;
  };
  const say = (sentence: string): ActionResult<unknown> => ({
    ok: false,
    error: { code: 'invalid', sentence, fields: { typed: sentence } },
  });
  if (many === 0) return <p className="mt-3 text-right text-small text-ink-2">{aside}</p>;
  return (
    <div className="sticky bottom-0 z-20 mt-2 flex flex-wrap items-center gap-x-3 gap-y-2 border-t bg-paper py-3">
      <b aria-live="polite">{many === null ? 'All' : figure(many)} chosen</b>
      {!whole && people !== null && people > many! && (
        <button type="button" className="link text-[13.5px]" onClick={takeWhole}>
          Choose all {figure(people)}
        </button>
      )}
      <button type="button" className="link text-[13.5px]" onClick={clear}>
        Choose nobody
      </button>
      <span className="flex flex-wrap gap-2">
        <ActionDialog opens="Tag" title={`Tag ${who}`} submit="Tag them" action={(data) => run('tag', { tag: data.get('tag') })}>
          <TextField name="tag" label="Tag" list="tags" autoComplete="off" />
          <datalist id="tags">
            {tags.map((tag) => (
              <option key={tag} value={tag} />
            ))}
          </datalist>
        </ActionDialog>
        {tags.length > 0 && (
          <ActionDialog
            opens="Take a tag off"
            title={`Take a tag off ${who}`}
            submit="Take it off"
            action={(data) => run('untag', { tag: data.get('tag') })}
          >
            <ChoiceField name="tag" label="Tag" choices={tags.map((tag) => ({ value: tag, label: tag }))} />
          </ActionDialog>
        )}
        <ActionDialog
          opens="Put on a list"
          title={`Put ${who} on a list`}
          words="Whoever left it themselves, and whose address is suppressed, is passed over."
          submit="Put them on it"
          action={(data) =>
            run('add', {
              listId: data.get('listId'),
              agreement: data.get('how') === 'vouched' ? { how: 'vouched', said: data.get('said') } : { how: 'asked' },
            })
          }
        >
          <ChoiceField name="listId" label="List" choices={lists.map(({ id, name }) => ({ value: id, label: name }))} />
          <AgreementFields />
        </ActionDialog>
        <ActionDialog
          opens="Take off a list"
          title={`Take ${who} off a list`}
          words="What waits for them by that list is not sent. They can sign up again themselves."
          submit="Take them off"
          action={(data) => run('take off', { listId: data.get('listId') })}
        >
          <ChoiceField name="listId" label="List" choices={lists.map(({ id, name }) => ({ value: id, label: name }))} />
        </ActionDialog>
        <ActionDialog
          opens="Export"
          title={`Export ${who}`}
          words="A file is written, and you get a mail when it can be fetched."
          submit="Write the file"
          action={async (data) => {
            const result = await take({ ...exportSaid(data), whom });
            if (result.ok) {
              toast.success('It is being written; it stands under Exports.');
              clear();
            }
            return result;
          }}
        >
          <ExportFields fields={fields} />
        </ActionDialog>
        <ActionDialog
          opens="Suppress"
          title={`Suppress ${who}`}
          words="Nothing goes to these addresses any more, whatever list they are on. You can take it back."
          submit="Suppress them"
          tone="harm"
          action={() => run('suppress', {})}
        />
        <ActionDialog
          opens="Erase"
          title={`Erase ${who}`}
          words="Their address, name, answers, tags and how they came are gone for good. Letters’ figures stay, and a sealed mark by which nobody but they themselves can bring them back."
          submit="Erase them"
          tone="harm"
          action={async (data) =>
            String(data.get('typed')).trim() === String(many)
              ? run('erase', {})
              : say(`Type ${many}, the number of readers, to erase them. Nobody was touched.`)
          }
        >
          <TextField name="typed" label={`Type ${many ?? 'their number'} to erase them`} inputMode="numeric" autoComplete="off" />
        </ActionDialog>
      </span>
      <span className="ml-auto text-small text-ink-2">{aside}</span>
    </div>
  );
}

/** How they agreed: the consent question of whoever adds people by hand. */
export function AgreementFields({ only }: { /** What alone may be answered. */ only?: 'asked' }) {
  if (only)
    return (
      <ChoiceField
        name="how"
        label="Have they agreed?"
        choices={[{ value: 'asked', label: 'Ask them by a confirmation letter' }]}
      />
    );
  return (
    <>
      <ChoiceField
        name="how"
        label="Have they agreed?"
        defaultValue="asked"
        choices={[
          { value: 'asked', label: 'Ask them by a confirmation letter' },
          { value: 'vouched', label: 'Yes, I can say where and when' },
        ]}
        hint="Where you vouch, they read at once, and your words stand in their record."
      />
      <LongField name="said" label="Where and when they agreed" rows={2} placeholder="On a card at the reading in May." />
    </>
  );
}
