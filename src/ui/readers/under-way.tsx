import type { ActionResult } from '@/core/faults';
import { counted, figure } from '@/core/growth/figures';
import type { BulkAct, BulkState } from '@/core/readers/bulk';
import { ActionButton } from '../kit/action-form';

export type Going = {
  id: string;
  act: BulkAct;
  what: { tag?: string; list?: string };
  by: string;
  state: BulkState;
  cause: string | null;
  people: number | null;
  done: number;
  changed: number;
  undo: boolean;
};

const DOING: Record<Going['act'], (what: Going['what']) => string> = {
  tag: ({ tag }) => `Tagging with “${tag}”`,
  untag: ({ tag }) => `Taking off the tag “${tag}”`,
  add: ({ list }) => `Putting on ${list}`,
  'take off': ({ list }) => `Taking off ${list}`,
  'let go': () => 'Letting go, off every list',
  suppress: () => 'Suppressing',
  erase: () => 'Erasing',
};

/** Acts on many readers, each with how far it is; it goes on whether somebody looks or not. */
export function UnderWay({
  acts,
  stop,
  undo,
}: {
  acts: Going[];
  stop: (id: string) => Promise<ActionResult<unknown>>;
  undo: (id: string) => Promise<ActionResult<unknown>>;
}) {
  return acts.map((act) => {
    const open = ['waiting', 'working', 'undoing'].includes(act.state);
    const share = act.people ? Math.round((act.done / act.people) * 100) : 0;
    return (
      <div key={act.id} className="my-2.5 border-l-2 border-l-verdigris py-0.5 pl-3.5 text-[13px] leading-[19px] text-ink-2">
        <p className="font-semibold text-ink">{DOING[act.act](act.what)}</p>
        <p>{said(act)}</p>
        {(act.state === 'working' || act.state === 'waiting') && (
          <progress
            className="my-1.5 block h-1.5 w-full accent-verdigris"
            value={share}
            max={100}
            aria-label={`${DOING[act.act](act.what)}: ${share} %`}
          />
        )}
        <p className="flex flex-wrap gap-3">
          {open && act.state !== 'undoing' && (
            <ActionButton action={stop.bind(null, act.id)} done="Stopped where it stood">
              Stop
            </ActionButton>
          )}
          {act.undo && (
            <ActionButton action={undo.bind(null, act.id)} done="It is being taken back">
              Take it back
            </ActionButton>
          )}
        </p>
      </div>
    );
  });
}

function said({ state, cause, people, done, changed, by }: Going): string {
  const whom = people === null ? 'whoever fits' : counted(people, 'reader', 'readers');
  switch (state) {
    case 'waiting':
      return `For ${whom}; it begins in a moment.`;
    case 'working':
      return `${figure(done)} of ${whom}.`;
    case 'done':
      return changed === done
        ? `Done for ${whom}, by ${by}.`
        : `Done, by ${by}: it changed ${figure(changed)} of ${whom}; the others were so already, or may not be moved.`;
    case 'stopped':
      return `Stopped after ${figure(done)} of ${whom}.`;
    case 'failed':
      return `It could not go on: ${cause} ${figure(done)} of ${whom} were done.`;
    case 'undoing':
      return `Being taken back: ${counted(changed, 'reader', 'readers')} to go.`;
    case 'undone':
      return 'Taken back. Whoever had moved on stays as they are.';
  }
}
