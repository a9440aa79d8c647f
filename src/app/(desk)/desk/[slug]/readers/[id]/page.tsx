import type { Metadata } from 'next';
import { fullTime, spokenTime } from '@/core/growth/times';
import { readerProfile } from '@/server/readers/readers';
import { Screen, Section, Standfirst } from '@/ui/kit/page';
import { StateChip } from '@/ui/readers/state-chip';
import { deskOf, orNotFound } from '../../../../../desk';

export const metadata: Metadata = { title: 'Reader' };

const WAYS = { search: 'Search', social: 'Social', mail: 'Mail', link: 'A link', campaign: 'Campaign', direct: 'Direct' };
const WITH: Record<string, string> = {
  panel: 'a panel',
  'one line': 'one line',
  ribbon: 'a ribbon',
  'corner card': 'a corner card',
  'pop-up': 'a pop-up',
  'after-post': 'the end of a post',
};

export default async function Page({ params }: { params: Promise<{ slug: string; id: string }> }) {
  const { slug, id } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const reader = await orNotFound(readerProfile(ctx, newsletter, id));
  const now = ctx.clock.now();
  const zone = newsletter.time_zone;
  const { way } = reader;
  const given = (entries: [string, string | null | undefined][]) =>
    entries.filter((entry): entry is [string, string] => Boolean(entry[1]));
  const from = given([
    ['Way', way.kind === 'direct' ? 'Direct' : `${WAYS[way.kind]}: ${way.name}`],
    ['Campaign', way.last?.campaign],
    [
      'Form',
      reader.source &&
        `${reader.source}${way.placement ? `, as ${WITH[way.placement] ?? way.placement}` : ''}${way.version ? `, version ${way.version.toUpperCase()}` : ''}`,
    ],
    ['Page', reader.page],
    ['Came to it from', reader.referrer],
    ['First seen on', way.first?.landing === reader.page ? null : way.first?.landing],
    ['First came from', way.first?.referrer === reader.referrer ? null : way.first?.referrer],
  ]);
  const said = given([
    ['First name', reader.firstName],
    ...reader.answers.map(({ label, value }): [string, string] => [
      label,
      typeof value === 'boolean' ? (value ? 'Yes' : 'No') : Array.isArray(value) ? value.join(', ') : String(value ?? ''),
    ]),
    ['Tags', reader.tags.join(', ')],
  ]);
  return (
    <Screen
      margin={
        <>
          <Section title="Where they came from">
            <Entries of={from} />
            {from.length === 0 && <p className="py-2.5 text-ink-2">Nothing is known.</p>}
          </Section>
          {said.length > 0 && (
            <Section title="What they told you">
              <Entries of={said} />
            </Section>
          )}
          <Section title="Lists">
            {reader.lists.map((list) => (
              <p key={list.name} className="flex items-center justify-between border-b border-rule-2 py-2">
                <span>{list.name}</span>
                <span className="text-small text-ink-2">
                  {list.state}, since {spokenTime(list.since, now, zone)}
                </span>
              </p>
            ))}
          </Section>
        </>
      }
    >
      <Standfirst title={reader.address} trail={[{ label: 'Readers', href: `/desk/${slug}/readers` }]}>
        First came {spokenTime(reader.joinedAt, now, zone)}. <StateChip state={reader.state} address={reader.addressState} />
      </Standfirst>
      <Section title="What happened" aside="newest first">
        <ol>
          {reader.history.map((entry) => (
            <li
              key={`${entry.at.getTime()}${entry.text}`}
              className="grid grid-cols-[7.5rem_1fr] gap-x-4 border-b border-rule-2 py-2.5"
            >
              <time dateTime={entry.at.toISOString()} title={fullTime(entry.at, zone)} className="text-ink-2">
                {spokenTime(entry.at, now, zone)}
              </time>
              <div className="min-w-0">
                {entry.text}
                {entry.detail && <p className="text-small break-words text-ink-2">{entry.detail}</p>}
              </div>
            </li>
          ))}
        </ol>
      </Section>
    </Screen>
  );
}

function Entries({ of }: { of: [string, string][] }) {
  return (
    <dl>
      {of.map(([label, value]) => (
        <div key={label} className="border-b border-rule-2 py-2 text-[13px]">
          <dt className="text-small text-ink-2">{label}</dt>
          <dd className="break-words">{value}</dd>
        </div>
      ))}
    </dl>
  );
}
