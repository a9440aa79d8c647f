import type { Metadata } from 'next';
import { LANES, type Lane } from '@/core/autosend/lanes';
import { asFault } from '@/core/faults';
import { fullTime } from '@/core/growth/times';
import { lookAhead } from '@/server/autosend/coming';
import { ButtonLink } from '@/ui/kit/button';
import { Screen, Standfirst } from '@/ui/kit/page';
import { LetterPreview } from '@/ui/sending/letter-preview';
import { deskOf } from '../../../../../../desk';

export const metadata: Metadata = { title: 'The next letter' };
type Props = { params: Promise<{ slug: string; id: string }>; searchParams: Promise<{ lane?: string; turn?: string }> };

/** The letter that a rule would send next, drawn as it would be now. */
export default async function Page({ params, searchParams }: Props) {
  const [{ slug, id }, { lane, turn }] = await Promise.all([params, searchParams]);
  const { ctx, newsletter } = await deskOf(slug);
  const of: Lane = LANES.find((one) => one === lane) ?? 'usual';
  const nth = /^[0-4]$/.test(turn ?? '') ? Number(turn) : 0;
  const seen = await lookAhead(ctx, newsletter, id, of, nth).catch((error: unknown) => asFault(error));
  const base = `/desk/${slug}/auto-sends`;
  const trail = [
    { label: 'Auto-sends', href: base },
    { label: 'The rule', href: `${base}/${id}` },
  ];
  if ('sentence' in seen)
    return (
      <Screen>
        <Standfirst title="The next letter" trail={trail}>
          {seen.sentence}
        </Standfirst>
        <ButtonLink href={`${base}/${id}`}>Back to the rule</ButtonLink>
      </Screen>
    );
  return (
    <Screen>
      <Standfirst title={seen.subject} trail={trail}>
        As it would be now{seen.at ? <>, for {fullTime(seen.at, newsletter.time_zone)}</> : ''}. What is written or edited until
        then is in it too.
      </Standfirst>
      <LetterPreview html={seen.html} text={seen.text} />
    </Screen>
  );
}
