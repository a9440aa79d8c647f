import type { Metadata } from 'next';
import { fullTime, spokenTime } from '@/core/growth/times';
import { readerProfile } from '@/server/readers/readers';
import { Screen, Section, Standfirst } from '@/ui/kit/page';
import { StateChip } from '@/ui/readers/state-chip';
import { deskOf, orNotFound } from '../../../../../desk';

export const metadata: Metadata = { title: 'Reader' };

export default async function Page({ params }: { params: Promise<{ slug: string; id: string }> }) {
  const { slug, id } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const reader = await orNotFound(readerProfile(ctx, newsletter, id));
  const now = ctx.clock.now();
  const zone = newsletter.time_zone;
  const from = [
    ['Form', reader.source],
    ['Page', reader.page],
    ['Came to it from', reader.referrer],
    ['First name', reader.firstName],
  ].filter((entry): entry is [string, string] => Boolean(entry[1]));
  return (
    <Screen
      margin={
        <>
          <Section title="Where they came from">
            <dl>
              {from.map(([label, value]) => (
                <div key={label} className="border-b border-rule-2 py-2 text-[13px]">
                  <dt className="text-small text-ink-2">{label}</dt>
                  <dd className="break-all">{value}</dd>
                </div>
              ))}
            </dl>
            {from.length === 0 && <p className="py-2.5 text-ink-2">Nothing is known.</p>}
          </Section>
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
