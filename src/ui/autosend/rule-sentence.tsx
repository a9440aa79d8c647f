'use client';

import { useRouter } from 'next/navigation';
import { type ReactNode, useEffect, useRef, useState } from 'react';
import { toast } from 'sonner';
import { SUBJECT_CHIPS } from '@/core/autosend/gather';
import { type Rhythm, WEEKDAYS, type Weekday } from '@/core/autosend/rhythm';
import type { RuleSettings, RuleWords } from '@/core/autosend/rule';
import {
  approvalWords,
  choicesWords,
  holdsWords,
  mostWords,
  quietWords,
  rhythmInPlace,
  takesWords,
} from '@/core/autosend/tell-rule';
import type { ActionResult } from '@/core/faults';
import { together } from '@/core/growth/figures';
import type { Audience, Part } from '@/core/sending/audience';
import { partWords } from '@/core/sending/tell-audience';
import { Amount, Choice, Tick, Words } from '../kit/controls';
import { Clause, Sentence } from '../kit/sentence';
import type { SentenceChoices } from '../readers/clause-settings';

type Named = { id: string; name: string };
type Props = {
  rule: RuleWords;
  /** Its sources, as they are called, and the panel in which they are chosen. */
  sources: string[];
  sourcePanel: ReactNode;
  topics: string[];
  authors: string[];
  choices: SentenceChoices;
  senders: Named[];
  layouts: Named[];
  /** How many new posts at once are usual. */
  atOnce: number;
  keep: (words: RuleWords, seen: RuleWords) => Promise<ActionResult<unknown>>;
};

const DAYS: Record<Weekday, string> = {
  1: 'Monday',
  2: 'Tuesday',
  3: 'Wednesday',
  4: 'Thursday',
  5: 'Friday',
  6: 'Saturday',
  7: 'Sunday',
};
const dayChoices = WEEKDAYS.map((day) => ({ value: String(day), label: `${DAYS[day]}s` }));
const byComma = (value: string) =>
  value
    .split(',')
    .map((one) => one.trim())
    .filter(Boolean)
    .slice(0, 40);

/** A rule as one sentence; each thing in it that can be chosen opens its choices, and what is chosen is kept at once. */
export function RuleSentence(props: Props) {
  const [rule, setRule] = useState(props.rule);
  const router = useRouter();
  const [state, setState] = useState<'as it was' | 'kept' | 'keeping' | 'not kept'>('as it was');
  const wanted = useRef<RuleWords | null>(null);
  /** What it says on the server, as far as this window knows. */
  const known = useRef(props.rule);
  const latest = useRef(props.rule);
  latest.current = props.rule;
  const busy = useRef(false);
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  /** Keeps what is wanted, one after the other, and what was chosen meanwhile after that. */
  const flush = async () => {
    clearTimeout(timer.current);
    if (busy.current) return;
    busy.current = true;
    for (let next = wanted.current; next; next = wanted.current) {
      wanted.current = null;
      const result = await props.keep(next, known.current).catch(() => null);
      if (result?.ok) known.current = next;
      if (wanted.current && result?.ok) continue;
      wanted.current = null;
      setState(result?.ok ? 'kept' : 'not kept');
      // Somebody else was there: what they chose is shown, and holds.
      if (result && !result.ok && result.error.code === 'conflict') {
        known.current = latest.current;
        setRule(latest.current);
      }
      router.refresh();
      if (!result?.ok) toast.error(result?.error.sentence ?? 'This could not be kept. Look at your connection and choose again.');
    }
    busy.current = false;
  };
  // What is chosen is kept at once; what is typed, once the typing rests.
  const change = (more: Partial<RuleWords>, typed = false) => {
    const next = { ...rule, ...more };
    setRule(next);
    setState('keeping');
    wanted.current = next;
    clearTimeout(timer.current);
    if (typed) timer.current = setTimeout(() => void flush(), 400);
    else void flush();
  };
  // What has changed on the server is shown: a note that has left, what another window chose.
  const served = JSON.stringify(props.rule);
  useEffect(() => {
    if (busy.current || wanted.current) return;
    known.current = JSON.parse(served);
    setRule(known.current);
  }, [served]);
  useEffect(() => {
    if (state !== 'keeping') return;
    const stay = (event: BeforeUnloadEvent) => event.preventDefault();
    addEventListener('beforeunload', stay);
    return () => removeEventListener('beforeunload', stay);
  }, [state]);
  const { settings } = rule;
  const set = (more: Partial<RuleSettings>, typed = false) => change({ settings: { ...settings, ...more } }, typed);
  const sender = props.senders.find((one) => one.id === rule.senderId);
  const layout = props.layouts.find((one) => one.id === rule.layoutId);
  const several = settings.rhythm.kind !== 'each' || settings.choices !== null;
  return (
    <div className="relative border-l-[3px] border-l-verdigris bg-sheet px-5 py-4">
      <Sentence>
        When{' '}
        <Clause words={props.sources.length ? together(props.sources) : 'no source yet'} title="Where posts come from">
          {props.sourcePanel}
        </Clause>{' '}
        has a new post{' '}
        <Clause words={takesWords(settings)} title="Which posts">
          <Takes settings={settings} set={set} topics={props.topics} authors={props.authors} />
        </Clause>{' '}
        that has stood unchanged for{' '}
        <Clause words={quietWords(settings.quietMinutes)} title="How long a post rests">
          <Choice
            label="Unchanged for"
            hint="Time for its last edits. An edit begins it anew."
            value={String(settings.quietMinutes)}
            change={(value) => set({ quietMinutes: Number(value) })}
            choices={[...new Set([0, 5, 10, 20, 60, 240, 1_440, settings.quietMinutes])]
              .sort((a, b) => a - b)
              .map((minutes) => ({ value: String(minutes), label: quietWords(minutes) }))}
          />
        </Clause>
        , it goes to{' '}
        <Clause words={audienceSaid(rule.audience, props.choices)} title="Whom it is for">
          <Whom audience={rule.audience} choices={props.choices} change={(audience) => change({ audience })} />
        </Clause>
        ,{' '}
        <Clause words={rhythmInPlace(settings)} title="When its letters leave">
          <RhythmChoice settings={settings} set={set} />
        </Clause>
        {settings.choices ? ', ' : ' and '}
        <Clause words={choicesWords(settings)} title="What readers may choose">
          <ReadersChoice settings={settings} set={set} />
        </Clause>
        . It leaves{' '}
        <Clause words={approvalWords(settings.approval)} title="Whether somebody looks first">
          <Approval settings={settings} set={set} />
        </Clause>
        , from{' '}
        <Clause words={sender?.name ?? 'nobody'} title="Who it comes from">
          <Choice
            label="From"
            value={rule.senderId}
            change={(senderId) => change({ senderId })}
            choices={props.senders.map((one) => ({ value: one.id, label: one.name }))}
          />
        </Clause>
        , as{' '}
        <Clause words={holdsWords(settings)} title="How much of a post stands in it">
          <Holds settings={settings} set={set} />
        </Clause>{' '}
        in the layout{' '}
        <Clause words={layout?.name ?? 'that is gone'} title="How it looks">
          <Choice
            label="Layout"
            value={rule.layoutId}
            change={(layoutId) => change({ layoutId })}
            choices={props.layouts.map((one) => ({ value: one.id, label: one.name }))}
          />
        </Clause>
        , under the subject{' '}
        <Clause words={<Pattern pattern={settings.subject} />} title="What its subject says">
          <Subject settings={settings} set={set} />
        </Clause>
        {several && (
          <>
            , with{' '}
            <Clause words={mostWords(settings)} title="How many posts a letter holds">
              <Amount label="At most so many" value={settings.most} least={1} most={50} change={(most) => set({ most }, true)} />
              <Choice
                label="What is more than that"
                value={settings.rest}
                change={(rest) => set({ rest })}
                choices={[
                  { value: 'next', label: 'goes into the next letter' },
                  { value: 'never', label: 'is not mailed' },
                ]}
              />
            </Clause>
          </>
        )}
        . More than{' '}
        <Clause
          words={settings.brake === null ? `${props.atOnce} new posts` : `${settings.brake} new posts`}
          title="When it asks before it sends"
        >
          <Choice
            label="New posts at once"
            hint="A site that was moved must not mail its past: more than this wait for your word."
            value={settings.brake === null ? '' : String(settings.brake)}
            change={(value) => set({ brake: value === '' ? null : Number(value) })}
            choices={[
              { value: '', label: `as is usual there (${props.atOnce})` },
              ...[1, 2, 3, 5, 10, 20, 50, 100].map((n) => ({ value: String(n), label: `more than ${n}` })),
            ]}
          />
        </Clause>{' '}
        at once wait for your word; the next one begins with{' '}
        <Clause words={rule.intro ? 'your note' : 'no note'} title="A note for the next letter">
          <Words
            label="Before its posts"
            hint="Once: the letter after has none. Paragraphs are parted by an empty line."
            long
            value={rule.intro}
            change={(intro) => change({ intro }, true)}
          />
        </Clause>
        .
      </Sentence>
      <p role="status" className="absolute right-3 bottom-1 text-small text-ink-2">
        {{ 'as it was': '', kept: 'Kept', keeping: 'Keeping …', 'not kept': 'Not kept yet' }[state]}
      </p>
    </div>
  );
}

/** A subject's pattern, its chips set apart. */
function Pattern({ pattern }: { pattern: string }) {
  const parts = (pattern || '‹first title›').split(/(‹[^‹›]*›)/).filter(Boolean);
  return parts.map((part, n) =>
    part.startsWith('‹') ? (
      // The same chip may stand twice.
      <span key={n} className="rounded-xs bg-verdigris-tint px-1.5 py-0.5 font-sans text-[13px] font-semibold">
        {part.slice(1, -1)}
      </span>
    ) : (
      <span key={n}>{part}</span>
    ),
  );
}

type Part_ = { settings: RuleSettings; set: (more: Partial<RuleSettings>, typed?: boolean) => void };

function Takes({ settings, set, topics, authors }: Part_ & { topics: string[]; authors: string[] }) {
  const several = (label: string, all: string[], chosen: string[], change: (next: string[]) => void) =>
    all.length > 0 && (
      <fieldset className="max-h-36 space-y-1.5 overflow-y-auto">
        <legend className="mb-1 text-small font-semibold text-ink-2">{label}</legend>
        {[...new Set([...all, ...chosen])].map((one) => (
          <Tick
            key={one}
            label={one}
            on={chosen.includes(one)}
            change={(on) => change(on ? [...chosen, one] : chosen.filter((other) => other !== one))}
          />
        ))}
      </fieldset>
    );
  return (
    <>
      {several('Topics (none: all of them)', topics, settings.topics, (next) => set({ topics: next }))}
      {several('Authors (none: everybody)', authors, settings.authors, (next) => set({ authors: next }))}
      <Listed label="With any of these words" value={settings.including} change={(including) => set({ including }, true)} />
      <Listed label="Without these words" value={settings.leavingOut} change={(leavingOut) => set({ leavingOut }, true)} />
    </>
  );
}

/** Words with commas between them; what is typed stays as it was typed. */
function Listed({ label, value, change }: { label: string; value: string[]; change: (value: string[]) => void }) {
  const [typed, setTyped] = useState(value.join(', '));
  return (
    <Words
      label={label}
      placeholder="eels, moths"
      value={typed}
      change={(next) => {
        setTyped(next);
        change(byComma(next));
      }}
    />
  );
}

const audienceSaid = (audience: Audience, choices: SentenceChoices): string => {
  const said = (part: Part) => partWords(part, choices.names, {});
  const without = audience.without.length ? ` without ${together(audience.without.map(said))}` : '';
  return `${together(audience.to.map(said))}${without}`;
};

function Whom({ audience, choices, change }: { audience: Audience; choices: SentenceChoices; change: (next: Audience) => void }) {
  const all: { part: Part; label: string }[] = [
    ...choices.lists.map((one) => ({ part: { kind: 'list', id: one.id } as Part, label: one.name })),
    ...choices.segments.map((one) => ({ part: { kind: 'segment', id: one.id } as Part, label: `segment ${one.name}` })),
    ...choices.tags.map((tag) => ({ part: { kind: 'tag', tag } as Part, label: `tagged ${tag}` })),
  ];
  const same = (a: Part, b: Part) => JSON.stringify(a) === JSON.stringify(b);
  const rows = (side: 'to' | 'without', legend: string) => (
    <fieldset className="max-h-40 space-y-1.5 overflow-y-auto">
      <legend className="mb-1 text-small font-semibold text-ink-2">{legend}</legend>
      {all.map(({ part, label }) => (
        <Tick
          key={label}
          label={label}
          on={audience[side].some((one) => same(one, part))}
          change={(on) => {
            const next = on ? [...audience[side], part] : audience[side].filter((one) => !same(one, part));
            // It is for somebody.
            if (side === 'without' || next.length > 0) change({ ...audience, [side]: next });
          }}
        />
      ))}
    </fieldset>
  );
  return (
    <>
      {rows('to', 'Everyone in any of these')}
      {rows('without', 'But nobody in any of those')}
    </>
  );
}

function Hour({ label, value, change }: { label: string; value: string; change: (value: string) => void }) {
  return <Words label={label} type="time" value={value} change={(next) => /^\d\d:\d\d$/.test(next) && change(next)} />;
}

const zones = (zone: string): string[] => [...new Set([zone, 'UTC', ...Intl.supportedValuesOf('timeZone')])];

function RhythmChoice({ settings, set }: Part_) {
  const { rhythm } = settings;
  const hour = 'hour' in rhythm ? rhythm.hour : '07:00';
  const kinds: Record<string, Rhythm> = {
    each: { kind: 'each' },
    daily: { kind: 'days', days: [...WEEKDAYS], hour },
    weekdays: { kind: 'days', days: [1, 2, 3, 4, 5], hour },
    weekly: { kind: 'days', days: [4], hour },
    days: { kind: 'days', days: [2, 4], hour },
    monthly: { kind: 'monthly', day: 1, hour },
    gathered: { kind: 'gathered', posts: 3 },
  };
  const [kind, setKind] = useState(() =>
    rhythm.kind !== 'days'
      ? rhythm.kind
      : rhythm.days.length === 7
        ? 'daily'
        : rhythm.days.join() === '1,2,3,4,5'
          ? 'weekdays'
          : rhythm.days.length === 1
            ? 'weekly'
            : 'days',
  );
  return (
    <>
      <Choice
        label="A letter"
        value={kind}
        change={(next) => {
          setKind(next);
          set({ rhythm: kinds[next]! });
        }}
        choices={[
          { value: 'each', label: 'for each post, as soon as it is ready' },
          { value: 'daily', label: 'every day' },
          { value: 'weekdays', label: 'each weekday, Monday to Friday' },
          { value: 'days', label: 'on chosen weekdays' },
          { value: 'weekly', label: 'once a week' },
          { value: 'monthly', label: 'once a month' },
          { value: 'gathered', label: 'whenever so many posts wait' },
        ]}
      />
      {kind === 'weekly' && rhythm.kind === 'days' && (
        <Choice
          label="On"
          value={String(rhythm.days[0])}
          change={(day) => set({ rhythm: { ...rhythm, days: [Number(day) as Weekday] } })}
          choices={dayChoices}
        />
      )}
      {kind === 'days' && rhythm.kind === 'days' && (
        <fieldset className="grid grid-cols-2 gap-1.5">
          <legend className="mb-1 text-small font-semibold text-ink-2">On</legend>
          {WEEKDAYS.map((day) => (
            <Tick
              key={day}
              label={DAYS[day]}
              on={rhythm.days.includes(day)}
              change={(on) => {
                const days = WEEKDAYS.filter((one) => (one === day ? on : rhythm.days.includes(one)));
                if (days.length) set({ rhythm: { ...rhythm, days } });
              }}
            />
          ))}
        </fieldset>
      )}
      {rhythm.kind === 'monthly' && (
        <Amount
          label="On day"
          hint="Of a month without a 29th, 30th or 31st: its last."
          least={1}
          most={31}
          value={rhythm.day}
          change={(day) => set({ rhythm: { ...rhythm, day } })}
        />
      )}
      {rhythm.kind === 'gathered' && (
        <Amount
          label="Posts"
          least={1}
          most={50}
          value={rhythm.posts}
          change={(posts) => set({ rhythm: { ...rhythm, posts } })}
        />
      )}
      {'hour' in rhythm && <Hour label="At" value={rhythm.hour} change={(next) => set({ rhythm: { ...rhythm, hour: next } })} />}
      <Choice label="Of the clock in" value={settings.zone} change={(zone) => set({ zone })} choices={zones(settings.zone)} />
      {'hour' in rhythm && <p className="text-small text-ink-2">No new post, no letter.</p>}
    </>
  );
}

function ReadersChoice({ settings, set }: Part_) {
  const { choices } = settings;
  return (
    <>
      <Tick
        label="Readers may choose their rhythm"
        hint="On the page that every letter’s “Choose what you get” leads to. Whoever changes gets each post once."
        on={choices !== null}
        change={(on) => set({ choices: on ? { daily: '07:00', weekly: { day: 7, hour: '09:00' } } : null })}
      />
      {choices && (
        <>
          <p className="text-small text-ink-2">Each post at once, or</p>
          <Hour label="Every day at" value={choices.daily} change={(daily) => set({ choices: { ...choices, daily } })} />
          <Choice
            label="Once a week on"
            value={String(choices.weekly.day)}
            change={(day) => set({ choices: { ...choices, weekly: { ...choices.weekly, day: Number(day) as Weekday } } })}
            choices={dayChoices}
          />
          <Hour
            label="At"
            value={choices.weekly.hour}
            change={(hour) => set({ choices: { ...choices, weekly: { ...choices.weekly, hour } } })}
          />
        </>
      )}
    </>
  );
}

function Approval({ settings, set }: Part_) {
  const { approval } = settings;
  return (
    <>
      <Choice
        label="Its letter"
        value={approval ? 'draft' : 'itself'}
        change={(value) => set({ approval: value === 'draft' ? { hours: 12, otherwise: 'send' } : null })}
        choices={[
          { value: 'itself', label: 'leaves by itself' },
          { value: 'draft', label: 'is a draft until somebody lets it go' },
        ]}
      />
      {approval && (
        <>
          <Amount
            label="Within so many hours"
            least={1}
            most={336}
            value={approval.hours}
            change={(hours) => set({ approval: { ...approval, hours } }, true)}
          />
          <Choice
            label="If nobody does"
            value={approval.otherwise}
            change={(otherwise) => set({ approval: { ...approval, otherwise } })}
            choices={[
              { value: 'send', label: 'it leaves by itself then' },
              { value: 'drop', label: 'it does not leave' },
            ]}
          />
          <p className="text-small text-ink-2">The newsletter’s owners are told by mail when a draft waits.</p>
        </>
      )}
    </>
  );
}

function Holds({ settings, set }: Part_) {
  return (
    <>
      <Choice
        label="Of each post"
        value={settings.holds}
        change={(holds) => set({ holds })}
        choices={[
          { value: 'whole', label: 'all of it' },
          { value: 'beginning', label: 'its first paragraphs, and a link to the rest' },
          { value: 'summary', label: 'its summary, and a link to it' },
        ]}
      />
      <Tick
        label="Read the article itself"
        hint="Where the feed has a summary alone, we read the post’s own page."
        on={settings.article}
        change={(article) => set({ article })}
      />
      <Words
        label="Invitation to comment"
        hint="The words of a link under each post; none where it is empty."
        value={settings.invitation}
        placeholder="Say what you think"
        change={(invitation) => set({ invitation }, true)}
      />
      <Words
        label="Campaign"
        hint="Marks links to your site (utm_campaign), so that its own count of visits tells letters apart."
        value={settings.campaign}
        placeholder="new-posts"
        change={(campaign) => set({ campaign }, true)}
      />
    </>
  );
}

const CHIP_WORDS: Record<(typeof SUBJECT_CHIPS)[number], string> = {
  'first title': 'first title',
  'and more': 'and more (where there are)',
  titles: 'all titles',
  posts: 'how many posts',
  date: 'the day',
};

function Subject({ settings, set }: Part_) {
  return (
    <>
      <Words label="Subject" value={settings.subject} change={(subject) => set({ subject }, true)} />
      <fieldset className="flex flex-wrap gap-1.5" aria-label="Put in">
        {SUBJECT_CHIPS.map((chip) => (
          <button
            key={chip}
            type="button"
            className="rounded-xs bg-verdigris-tint px-2 py-1 text-small font-semibold text-verdigris-ink"
            onClick={() => set({ subject: `${settings.subject} ‹${chip}›`.trim() })}
          >
            {CHIP_WORDS[chip]}
          </button>
        ))}
      </fieldset>
      <p className="text-small text-ink-2">Where it comes to nothing, it is the first title.</p>
    </>
  );
}
