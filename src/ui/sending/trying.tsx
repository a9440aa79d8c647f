'use client';

import { useId, useState } from 'react';
import type { ActionResult } from '@/core/faults';
import { counted, together } from '@/core/growth/figures';
import {
  DIFFERENCES,
  groupSize,
  LEAST_SHARE,
  type LetterTest,
  MOST_TEST_HOURS,
  MOST_VERSIONS,
  promiseOf,
  TRIED,
  TRIED_WORDS,
  type Version,
} from '@/core/sending/letter-test';
import { Amount, Choice, Words } from '../kit/controls';
import { ActionDialog } from '../kit/dialog';

export type Trying = LetterTest & { versions: Version[] };
type Props = {
  /** How it is tried; null where it has but one version. */
  test: Trying | null;
  own: { subject: string; senderId: string | null };
  /** Those that may be tried against its own: confirmed, and of the same domain. */
  senders: { id: string; label: string }[];
  usual: { opens: number | null; clicks: number | null };
  counts: { opens: boolean; clicks: boolean };
  /** How many get the letter; null while it is counted. */
  will: number | null;
  keep: (said: Trying | null) => Promise<ActionResult<unknown>>;
};

const EMPTY: Version = { subject: '', senderId: null, beginning: '' };

/** "2 subjects (its own and “…”) are tried on 30% of them, 150 people each; after 4 hours …" */
export function tryingWords(test: Trying, will: number | null, senders: Props['senders']): string {
  const all = test.versions.length + 1;
  const each = will === null ? '' : `, ${counted(groupSize(will, test.share, all), 'person', 'people')} each`;
  const others = test.versions.map((one) =>
    test.by === 'subject'
      ? `“${one.subject}”`
      : test.by === 'beginning'
        ? `“${one.beginning.slice(0, 60)}${one.beginning.length > 60 ? ' …' : ''}”`
        : (senders.find((sender) => sender.id === one.senderId)?.label ?? 'one that is not there any more'),
  );
  return `${all} ${TRIED_WORDS[test.by].many} (${together(['its own', ...others], MOST_VERSIONS)}) are tried on ${test.share}% of them${each}; after ${counted(test.hours, 'hour', 'hours')} it is decided by who ${
    test.decides === 'clicks' ? 'followed a link' : 'opened it'
  }, and ${test.rest === 'goes' ? 'the rest gets the better one by itself' : 'the rest waits for you'}`;
}

/** Says how versions of a letter are tried on a part of its readers first, and beforehand what that could show. */
export function TryVersions({ test, own, senders, usual, counts, will, keep }: Props) {
  return (
    <ActionDialog
      opens={test ? 'Change how it is tried …' : 'Try two subjects first …'}
      opensTone="quiet"
      title="Try versions on a part of its readers"
      words="By chance, some get one version and as many another; what they do decides what the rest gets."
      submit="Keep it so"
      done="Kept"
      action={async (data) => {
        const said = JSON.parse(String(data.get('said'))) as Trying;
        return keep(said);
      }}
    >
      <Settings test={test} own={own} senders={senders} usual={usual} counts={counts} will={will} />
    </ActionDialog>
  );
}

function Settings({ test, own, senders, usual, counts, will }: Omit<Props, 'keep'>) {
  const [said, setSaid] = useState<Trying>(
    test ?? {
      by: 'subject',
      share: 20,
      decides: counts.clicks ? 'clicks' : 'opens',
      hours: 4,
      rest: 'goes',
      versions: [EMPTY],
    },
  );
  const [times, setTimes] = useState<string>('1.5');
  const heading = useId();
  const set = (part: Partial<Trying>) => setSaid((old) => ({ ...old, ...part }));
  const setVersion = (n: number, part: Partial<Version>) =>
    set({ versions: said.versions.map((one, k) => (k === n ? { ...one, ...part } : one)) });
  const promise =
    will === null
      ? null
      : promiseOf({
          recipients: will,
          share: said.share,
          versions: said.versions.length + 1,
          usual: usual[said.decides],
          times: Number(times),
          decides: said.decides,
        });
  const { one } = TRIED_WORDS[said.by];
  const others = senders.filter((sender) => sender.id !== own.senderId);
  return (
    <>
      <input type="hidden" name="said" value={JSON.stringify(said)} />
      <Choice
        label="What differs"
        value={said.by}
        change={(by) => set({ by, versions: [EMPTY] })}
        choices={TRIED.filter((by) => by !== 'sender' || others.length > 0).map((by) => ({
          value: by,
          label: { subject: 'the subject', sender: 'who it is from', beginning: 'its first paragraph' }[by],
        }))}
      />
      <fieldset className="space-y-3" aria-labelledby={heading}>
        <legend id={heading} className="text-small font-semibold text-ink-2">
          {said.by === 'subject'
            ? `Beside “${own.subject}”`
            : said.by === 'sender'
              ? 'Beside its own sender'
              : 'Beside its own first paragraph'}
        </legend>
        {said.versions.map((version, n) => (
          // Versions have no names of their own.
          <div key={n} className="flex items-end gap-2">
            <div className="min-w-0 flex-1">
              {said.by === 'sender' ? (
                <Choice
                  label={`Version ${n + 2}`}
                  value={version.senderId ?? ''}
                  change={(senderId) => setVersion(n, { senderId: senderId || null })}
                  choices={[
                    { value: '', label: 'Choose one' },
                    ...others.map((sender) => ({ value: sender.id, label: sender.label })),
                  ]}
                />
              ) : (
                <Words
                  label={`Version ${n + 2}`}
                  long={said.by === 'beginning'}
                  value={said.by === 'subject' ? version.subject : version.beginning}
                  change={(words) => setVersion(n, said.by === 'subject' ? { subject: words } : { beginning: words })}
                />
              )}
            </div>
            {said.versions.length > 1 && (
              <button
                type="button"
                className="link pb-2 text-[13px]"
                aria-label={`Take out version ${n + 2}`}
                onClick={() => set({ versions: said.versions.filter((_, k) => k !== n) })}
              >
                Take out
              </button>
            )}
          </div>
        ))}
        {said.versions.length < MOST_VERSIONS - 1 && (
          <button type="button" className="link text-[13px]" onClick={() => set({ versions: [...said.versions, EMPTY] })}>
            One more {one}
          </button>
        )}
      </fieldset>
      <div className="grid gap-4 sm:grid-cols-2">
        <Choice
          label="What decides"
          value={said.decides}
          change={(decides) => set({ decides })}
          choices={[
            ...(counts.clicks ? [{ value: 'clicks' as const, label: 'who follows a link' }] : []),
            ...(counts.opens ? [{ value: 'opens' as const, label: 'who opens it' }] : []),
          ]}
          hint={said.decides === 'opens' ? 'Some openings are hidden by machines; links tell more.' : undefined}
        />
        <Amount
          label="After how many hours"
          value={said.hours}
          least={1}
          most={MOST_TEST_HOURS}
          change={(hours) => set({ hours })}
        />
        <Amount
          label="On how many in a hundred"
          value={said.share}
          least={LEAST_SHARE}
          most={100}
          change={(share) => set({ share })}
        />
        <Choice
          label="Then the rest"
          value={said.rest}
          change={(rest) => set({ rest })}
          choices={[
            { value: 'goes', label: 'gets the better one' },
            { value: 'waits', label: 'waits for me' },
          ]}
        />
        <Choice
          label="A difference worth seeing"
          value={times}
          change={setTimes}
          choices={DIFFERENCES.map((difference) => ({ value: String(difference.times), label: difference.label }))}
        />
      </div>
      {promise && (
        <p
          className={`border-l-2 py-0.5 pl-3 text-[13px] text-ink-2 ${promise.enough === false ? 'border-l-ochre' : 'border-l-rule'}`}
          aria-live="polite"
        >
          {promise.words}
        </p>
      )}
    </>
  );
}
