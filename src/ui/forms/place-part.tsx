'use client';

import type { ActionResult } from '@/core/faults';
import type { FormDefinition } from '@/core/forms/definition';
import { PLACEMENTS, type Placement } from '@/core/forms/placement';
import { Amount, Choice, Tick, Words } from './controls';
import { Picker } from './picker';

const MEANS: Record<Placement['kind'], string> = {
  panel: 'Stands where you put its code and fills what it stands in.',
  'one line': 'As flat as it goes, for the end of a page or a column.',
  ribbon: 'A band along an edge of the window; stays away once closed.',
  'corner card': 'A card in a corner, after a moment.',
  'pop-up': 'Over the page. Never for people who joined.',
  'after-post': 'Finds the end of the article by itself.',
};

type Props = {
  definition: FormDefinition;
  set: (part: Partial<FormDefinition>) => void;
  site: string;
  loadPage: (url: string) => Promise<ActionResult<{ address: string }>>;
};

/** Where the form stands, when it comes, and on which pages. */
export function PlacePart({ definition, set, site, loadPage }: Props) {
  const { placement } = definition;
  const change = (part: Partial<Placement>) => set({ placement: { ...placement, ...part } });
  const trigger = (part: Partial<Placement['trigger']>) => change({ trigger: { ...placement.trigger, ...part } });
  const over = ['ribbon', 'corner card', 'pop-up'].includes(placement.kind);
  const lines = (text: string) =>
    text
      .split('\n')
      .map((line) => line.trim())
      .filter(Boolean);
  return (
    <>
      <Choice
        label="It stands as"
        value={placement.kind}
        change={(kind) => change({ kind })}
        choices={PLACEMENTS}
        hint={MEANS[placement.kind]}
      />
      {placement.kind === 'ribbon' && (
        <Choice
          label="Along"
          value={placement.ribbonAt}
          change={(ribbonAt) => change({ ribbonAt })}
          choices={[
            { value: 'top', label: 'the top' },
            { value: 'bottom', label: 'the bottom' },
          ]}
        />
      )}
      {placement.kind === 'corner card' && (
        <Choice
          label="In the corner at the"
          value={placement.cornerAt}
          change={(cornerAt) => change({ cornerAt })}
          choices={[
            { value: 'end', label: 'end of lines' },
            { value: 'start', label: 'beginning of lines' },
          ]}
        />
      )}
      {placement.kind === 'after-post' && (
        <>
          <Words
            label="What an article is"
            value={placement.after}
            change={(after) => change({ after })}
            hint="A CSS selector; article fits most sites. If none is found the form stands where its code stands."
          />
          <Picker
            opens="Show it on a page"
            title="Where does an article end?"
            site={site}
            load={loadPage}
            take={(after) => change({ after })}
          />
        </>
      )}
      {over && (
        <>
          <div className="grid grid-cols-2 gap-2">
            <Amount
              label="After seconds"
              value={placement.trigger.seconds}
              most={600}
              change={(seconds) => trigger({ seconds })}
            />
            <Amount
              label="After % scrolled"
              value={placement.trigger.scroll}
              most={100}
              change={(scroll) => trigger({ scroll })}
            />
          </div>
          <p className="text-small text-ink-2">0 where it does not matter.</p>
          <Tick
            label="When the pointer leaves the page"
            on={placement.trigger.leaving}
            change={(leaving) => trigger({ leaving })}
          />
          <Words
            label="When this is clicked"
            value={placement.trigger.click}
            change={(click) => trigger({ click })}
            placeholder=".subscribe"
            hint="A CSS selector of any button or link. Also for people who closed it."
          />
          <Picker
            opens="Show it on a page"
            title="What brings it when clicked?"
            site={site}
            load={loadPage}
            take={(click) => trigger({ click })}
          />
          <Amount
            label="Days before it comes again once closed"
            value={placement.againAfterDays}
            most={365}
            change={(againAfterDays) => change({ againAfterDays })}
            hint="0 for never again."
          />
        </>
      )}
      <Words
        long
        label="Only on these pages"
        value={placement.show.join('\n')}
        change={(text) => change({ show: lines(text) })}
        placeholder={'/letters/*'}
        hint="One path a line, * for anything. Empty is everywhere."
      />
      <Words long label="Not on these pages" value={placement.hide.join('\n')} change={(text) => change({ hide: lines(text) })} />
      <div className="grid grid-cols-2 gap-2">
        <Words type="date" label="From the day" value={placement.from} change={(from) => change({ from })} />
        <Words type="date" label="To the day" value={placement.to} change={(to) => change({ to })} />
      </div>
      <Amount
        label="Show how many read, from"
        value={definition.countFrom}
        most={1_000_000}
        change={(countFrom) => set({ countFrom })}
        hint="0 for never. Fewer than this are not shown."
      />
    </>
  );
}
