'use client';

import type { ActionResult } from '@/core/faults';
import type { FormDefinition, Next } from '@/core/forms/definition';
import { fill, wordsOf } from '@/core/forms/words';
import { figure } from '@/core/growth/figures';
import { Choice, Tick, Words } from './controls';
import { FileField } from './file-field';

type Props = {
  definition: FormDefinition;
  set: (part: Partial<FormDefinition>) => void;
  lists: { id: string; name: string; reading: number }[];
  listIds: string[];
  setListIds: (ids: string[]) => void;
  senders: { id: string; name: string }[];
  newsletter: string;
  giveFile: (data: FormData) => Promise<ActionResult<{ id: string; name: string }>>;
};

/** What happens after sending and after confirming: thanks, letters, pages, gift, lists and tags. */
export function NextPart({ definition, set, lists, listIds, setListIds, senders, newsletter, giveFile }: Props) {
  const { next } = definition;
  const words = wordsOf(definition.language);
  const change = (part: Partial<Next>) => set({ next: { ...next, ...part } });
  return (
    <>
      <fieldset>
        <legend className="mb-1 text-small font-semibold text-ink-2">Lists it gives</legend>
        {lists.map((list) => (
          <Tick
            key={list.id}
            label={list.name}
            hint={`${figure(list.reading)} reading`}
            on={listIds.includes(list.id)}
            change={(on) => setListIds(on ? [...listIds, list.id] : listIds.filter((id) => id !== list.id))}
          />
        ))}
      </fieldset>
      <Words
        label="Tags it gives"
        value={next.tags.join(', ')}
        change={(text) =>
          change({
            tags: text
              .split(',')
              .map((tag) => tag.trimStart().toLowerCase())
              .filter((tag, n, all) => tag !== '' || n === all.length - 1),
          })
        }
        hint="With commas between."
      />
      <Words long label="Thanks, in place" value={definition.thanks} change={(thanks) => set({ thanks })} />
      <Words
        label="Or take them to another page"
        type="url"
        value={next.redirect}
        change={(redirect) => change({ redirect })}
        placeholder="https://"
      />
      <p className="border-t pt-3 text-small font-semibold text-ink-2">The confirmation letter</p>
      <Words
        label="Subject"
        value={next.confirmation.subject}
        placeholder={fill(words.confirmation.subject, { name: newsletter })}
        change={(subject) => change({ confirmation: { ...next.confirmation, subject } })}
      />
      <Words
        label="Heading"
        value={next.confirmation.heading}
        placeholder={words.confirmation.heading}
        change={(heading) => change({ confirmation: { ...next.confirmation, heading } })}
      />
      <Words
        long
        label="Words"
        value={next.confirmation.words}
        placeholder={words.confirmation.words}
        change={(text) => change({ confirmation: { ...next.confirmation, words: text } })}
      />
      <Words
        label="Button"
        value={next.confirmation.button}
        placeholder={words.confirmation.button}
        change={(button) => change({ confirmation: { ...next.confirmation, button } })}
      />
      <Choice
        label="It comes from"
        value={next.confirmation.senderId}
        change={(senderId) => change({ confirmation: { ...next.confirmation, senderId } })}
        choices={[
          { value: '', label: 'the sender that new letters start with' },
          ...senders.map((sender) => ({ value: sender.id, label: sender.name })),
        ]}
      />
      <Tick
        label="Remind them once"
        hint="After three days, if they have not confirmed. Nothing after that."
        on={next.reminder}
        change={(reminder) => change({ reminder })}
      />
      <p className="border-t pt-3 text-small font-semibold text-ink-2">After confirming</p>
      <Words
        label="Title of the page"
        value={next.confirmed.title}
        placeholder="You are on the list"
        change={(title) => change({ confirmed: { ...next.confirmed, title } })}
      />
      <Words
        long
        label="Its words"
        value={next.confirmed.words}
        change={(text) => change({ confirmed: { ...next.confirmed, words: text } })}
      />
      <Words
        label="Or take them to another page"
        type="url"
        value={next.confirmed.redirect}
        change={(redirect) => change({ confirmed: { ...next.confirmed, redirect } })}
        placeholder="https://"
      />
      <Choice
        label="A gift"
        value={next.gift.kind}
        change={(kind) => change({ gift: { ...next.gift, kind } })}
        choices={[
          { value: 'none', label: 'none' },
          { value: 'link', label: 'an address' },
          { value: 'file', label: 'a file kept here' },
        ]}
      />
      {next.gift.kind !== 'none' && (
        <Words
          label="What it is called"
          value={next.gift.label}
          change={(label) => change({ gift: { ...next.gift, label } })}
          placeholder="Your map of the trench"
        />
      )}
      {next.gift.kind === 'link' && (
        <Words
          label="Where it is"
          type="url"
          value={next.gift.url}
          change={(url) => change({ gift: { ...next.gift, url } })}
          placeholder="https://"
        />
      )}
      {next.gift.kind === 'file' && (
        <FileField
          label="The file"
          hint={next.gift.fileId ? 'A file is kept. Choose another to replace it.' : 'Up to 20 MB. Links to it last 30 days.'}
          keep={giveFile}
          kept={(file) => {
            change({ gift: { ...next.gift, fileId: file.id, label: next.gift.label || file.name } });
            return `Kept: ${file.name}`;
          }}
        />
      )}
      <Tick label="A welcome letter at once" on={next.welcome.on} change={(on) => change({ welcome: { ...next.welcome, on } })} />
      {next.welcome.on && (
        <>
          <Words
            label="Its subject"
            value={next.welcome.subject}
            placeholder={`Welcome to ${newsletter}`}
            change={(subject) => change({ welcome: { ...next.welcome, subject } })}
          />
          <Words
            long
            label="Its words"
            value={next.welcome.words}
            change={(text) => change({ welcome: { ...next.welcome, words: text } })}
            hint="An empty line begins a paragraph. The gift stands under them."
          />
        </>
      )}
      <Tick label="Tell the owners of each" on={next.tellOwners} change={(tellOwners) => change({ tellOwners })} />
    </>
  );
}
