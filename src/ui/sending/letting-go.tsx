'use client';

import { useRouter } from 'next/navigation';
import { useEffect, useState } from 'react';
import { toast } from 'sonner';
import type { ActionResult } from '@/core/faults';
import { counted } from '@/core/growth/figures';
import { fullTime } from '@/core/growth/times';
import { type Departure, MOST_HOURS, type Pace, paceWords } from '@/core/sending/departure';
import type { Check } from '@/core/writing/checks';
import { Amount, Choice, Tick, Words } from '../kit/controls';
import { ActionDialog } from '../kit/dialog';
import { Note, Screen, Section, Standfirst } from '../kit/page';
import { type Trying, TryVersions, tryingWords } from './trying';
import { useAsked } from './use-asked';

type Look = {
  will: number;
  from: string;
  until: string;
  hour: string;
  twice: boolean;
  differences: { title: string; words: string }[];
  first: boolean;
  stops: { title: string; words: string }[];
  stamp: string;
  clocks: { known: number; zones: number } | null;
};

type Props = {
  title: string;
  base: string;
  preview: string;
  from: string;
  to: string;
  layout: string;
  page: string;
  departure: Departure;
  /** Has it a time already? */
  onRunway: boolean;
  callBackSeconds: number;
  /** What the domain's ramp-up lets leave in a day; null where there is none. */
  ceiling: string | null;
  /** How its versions are tried, and what may be. */
  trying: Omit<Parameters<typeof TryVersions>[0], 'will' | 'keep'>;
  keepTest: (said: Trying | null) => Promise<ActionResult<unknown>>;
  letGo: (said: unknown) => Promise<ActionResult<{ due: Date }>>;
};

const PACES = [
  { value: 'at once', label: 'to everybody at once' },
  { value: 'local hour', label: 'at that hour of each reader’s own clock' },
  { value: 'over hours', label: 'evenly over some hours' },
] as const;

/** The last look at a letter: what leaves, to how many, when and from whom, what is unusual, and the one deliberate act that lets it go. */
export function LettingGo(props: Props) {
  const { base } = props;
  const router = useRouter();
  const [departure, setDeparture] = useState(props.departure);
  const [agreed, setAgreed] = useState<string[]>([]);
  const { test } = props.trying;
  // Looked at anew once its versions are others.
  const look = useAsked<Look>(`${base}/look`, JSON.stringify({ ...departure, tried: test }));
  const [checks, setChecks] = useState<Check[] | 'not made' | null>(null);
  useEffect(() => {
    const stop = new AbortController();
    fetch(`${base}/checks`, { signal: stop.signal })
      .then((response) => (response.ok ? response.json() : Promise.reject(response.status)))
      // What stops it stands above.
      .then((found: Check[]) => setChecks(found.filter((one) => one.tone === 'look')))
      .catch(() => !stop.signal.aborted && setChecks('not made'));
    return () => stop.abort();
  }, [base]);
  const [zones, setZones] = useState([props.departure.zone]);
  useEffect(() => {
    setZones([...new Set([props.departure.zone, 'UTC', ...Intl.supportedValuesOf('timeZone')])]);
  }, [props.departure.zone]);
  const set = (part: Partial<Departure>) => setDeparture((old) => ({ ...old, ...part }));
  const pace = (kind: Pace['kind']) => set({ pace: kind === 'over hours' ? { kind, hours: 4 } : { kind } });
  const seen = look.answer;
  const open = seen?.differences.filter((one) => !agreed.includes(one.title)) ?? [];
  const ready = seen !== null && !look.busy && seen.stops.length === 0 && open.length === 0;
  const people = seen ? counted(seen.will, 'person', 'people') : '';
  const when = seen ? whenWords(departure, seen, props.callBackSeconds) : '';
  return (
    <Screen
      margin={
        <>
          <Section title="What is unusual">
            {look.fault && <Note tone="mend" title={look.fault} />}
            {!seen && !look.fault && <p className="py-2.5 text-ink-2">Looking …</p>}
            {seen?.stops.map((one) => (
              <Note key={one.title} tone="mend" title={one.title}>
                {one.words}
              </Note>
            ))}
            {seen?.differences.map((one) => (
              <Note key={one.title} tone="look" title={one.title}>
                {one.words}
                <span className="mt-2 block">
                  <Tick
                    label="That is as I want it"
                    on={agreed.includes(one.title)}
                    change={(on) => setAgreed((old) => (on ? [...old, one.title] : old.filter((title) => title !== one.title)))}
                  />
                </span>
              </Note>
            ))}
            {seen && seen.stops.length === 0 && seen.differences.length === 0 && (
              <Note tone="fine" title="Nothing">
                {seen.first ? 'It is your first letter' : 'It is much like your last letter'}, and nothing else leaves to the same
                people within a day.
              </Note>
            )}
          </Section>
          <Section title="Checks">
            {checks === null && <p className="py-2.5 text-ink-2">Looking at its links and its size …</p>}
            {checks === 'not made' && (
              <Note tone="look" title="They could not be made just now">
                Whether its links answer is not known. Open this page again to look once more.
              </Note>
            )}
            {Array.isArray(checks) && checks.length === 0 && <Note tone="fine" title="Nothing to look at" />}
            {Array.isArray(checks) &&
              checks.map((one) => (
                <Note key={one.title} tone="look" title={one.title}>
                  {one.words}
                </Note>
              ))}
          </Section>
        </>
      }
    >
      <Standfirst title={props.title} trail={[{ label: 'Letters', href: base.replace(/\/[^/]+$/, '') }]}>
        {seen ? (
          <>
            It goes to <b>{people}</b>, {when}.
          </>
        ) : (
          'The last look, before it leaves.'
        )}
      </Standfirst>
      <Section title="When it leaves">
        <div className="grid gap-4 py-4 sm:grid-cols-2">
          <Choice
            label="It leaves"
            value={departure.when}
            change={(next) =>
              set(
                next === 'now' && departure.pace.kind === 'local hour'
                  ? { when: next, pace: { kind: 'at once' } }
                  : { when: next },
              )
            }
            choices={[
              { value: 'now', label: 'now' },
              { value: 'at', label: 'at a time' },
            ]}
          />
          <Choice
            label="To whom first"
            value={departure.pace.kind}
            change={pace}
            choices={PACES.filter((one) => departure.when === 'at' || one.value !== 'local hour')}
          />
          {departure.when === 'at' && (
            <>
              <Words
                label="Day and hour"
                type="datetime-local"
                value={departure.local}
                change={(local) => set({ local: local.slice(0, 16) })}
              />
              <Choice
                label="By the clock of"
                value={departure.zone}
                change={(zone) => set({ zone })}
                choices={zones.map((name) => ({ value: name, label: name.replaceAll('_', ' ') }))}
              />
            </>
          )}
          {seen?.twice && (
            <Choice
              label="Which of the two"
              value={departure.fold}
              change={(fold) => set({ fold })}
              choices={[
                { value: 'first', label: 'the first, before clocks go back' },
                { value: 'second', label: 'the second, after clocks went back' },
              ]}
            />
          )}
          {departure.pace.kind === 'over hours' && (
            <Amount
              label="Over how many hours"
              value={departure.pace.hours}
              least={1}
              most={MOST_HOURS}
              change={(hours) => set({ pace: { kind: 'over hours', hours } })}
            />
          )}
        </div>
        {seen?.hour && <Note tone="look" title={seen.hour} />}
        {seen?.clocks && (
          <p className="pb-2 text-[13px] text-ink-2">
            {seen.clocks.known === 0
              ? 'Nobody’s own clock is known yet, so it goes to all by yours.'
              : `${counted(seen.clocks.known, 'reader’s', 'readers’')} own clocks are known, in ${counted(seen.clocks.zones, 'zone', 'zones')}; the others go by yours.`}{' '}
            The first get it {fullTime(new Date(seen.from), departure.zone)}, the last{' '}
            {fullTime(new Date(seen.until), departure.zone)}.
          </p>
        )}
        {props.ceiling && <p className="pb-2 text-[13px] text-ink-2">{props.ceiling}</p>}
      </Section>
      <Section title="What leaves">
        <dl className="text-[14px]">
          {[
            ['Subject', props.title],
            ['Preview line', props.preview || 'None'],
            ['From', props.from],
            ['To', `${props.to}${seen ? `: ${people}` : ''}`],
            ['Layout', props.layout],
            ['As a web page', props.page],
            ...(test ? [['Tried first', `${tryingWords(test, seen?.will ?? null, props.trying.senders)}.`]] : []),
          ].map(([label, value]) => (
            <div key={label} className="grid gap-x-4 border-b border-rule-2 py-2.5 sm:grid-cols-[8rem_1fr]">
              <dt className="text-ink-2">{label}</dt>
              <dd className="min-w-0 break-words">{value}</dd>
            </div>
          ))}
        </dl>
        <p className="flex flex-wrap gap-4 pt-3">
          <TryVersions {...props.trying} will={seen?.will ?? null} keep={props.keepTest} />
          {test && (
            <button
              type="button"
              className="link text-[13px] font-medium"
              onClick={async () => {
                const result = await props.keepTest(null).catch(() => null);
                if (!result?.ok) toast.error(result?.error.sentence ?? 'We could not be reached. Nothing was changed.');
              }}
            >
              Try nothing, send it as it is
            </button>
          )}
        </p>
      </Section>
      <div className="flex flex-wrap items-center gap-4">
        {ready ? (
          <ActionDialog
            opens={props.onRunway ? 'Set it anew …' : 'Let it go …'}
            opensTone="main"
            title={departure.when === 'now' ? `Let it go to ${people}?` : `Put it on the runway for ${people}?`}
            words={`“${props.title}” leaves ${when}. ${
              departure.when === 'at'
                ? 'Until then you can change it or call it back.'
                : props.callBackSeconds
                  ? `For ${counted(props.callBackSeconds, 'second', 'seconds')} you can call it back whole; after that only what has not left yet can be stopped.`
                  : 'It cannot be called back; only what has not left yet can be stopped.'
            }`}
            submit={departure.when === 'now' ? `Yes, to ${people}` : 'Yes, set it'}
            action={async () => {
              const result = await props.letGo({ departure, stamp: seen.stamp });
              if (result.ok) router.push(base);
              return result;
            }}
          />
        ) : (
          <p className="text-[13.5px] text-ink-2">
            {seen?.stops.length
              ? 'It can leave once what stops it is mended.'
              : open.length
                ? `Once you agree to ${counted(open.length, 'unusual thing', 'unusual things')}, it can leave.`
                : 'Looking …'}
          </p>
        )}
      </div>
    </Screen>
  );
}

function whenWords(departure: Departure, look: Look, callBackSeconds: number): string {
  const pace = departure.pace.kind === 'at once' ? '' : `, ${paceWords(departure.pace)}`;
  if (departure.when === 'now')
    return `${callBackSeconds ? `${counted(callBackSeconds, 'second', 'seconds')} after you let it go` : 'as soon as you let it go'}${pace}`;
  if (departure.pace.kind === 'local hour') return `${departure.local.replace('T', ' at ')}, ${paceWords(departure.pace)}`;
  return `${fullTime(new Date(look.from), departure.zone)}${pace}`;
}
