import type { Metadata } from 'next';
import { redirect } from 'next/navigation';
import { laneWords } from '@/core/autosend/tell-rule';
import { figure } from '@/core/growth/figures';
import { localOf } from '@/core/growth/times';
import type { Departure } from '@/core/sending/departure';
import { audienceWords } from '@/core/sending/tell-audience';
import { lineForAll } from '@/core/writing/line';
import { layoutsOf } from '@/server/newsletters/layouts';
import { domainsOf } from '@/server/senders/domains';
import { sendersOf } from '@/server/senders/senders';
import { namesFor } from '@/server/sending/address';
import { laneOf } from '@/server/sending/audience';
import { draftOf, isWritable } from '@/server/sending/drafts';
import { rampOf } from '@/server/sending/ramp';
import { usualRates } from '@/server/sending/results';
import { versionsOf } from '@/server/sending/versions';
import { letterOf } from '@/server/sending/views';
import { ButtonLink } from '@/ui/kit/button';
import { LettingGo } from '@/ui/sending/letting-go';
import { StageBar } from '@/ui/sending/stages';
import { deskOf, orNotFound } from '../../../../../../desk';
import { keepTest, letItGo } from '../../actions';

export const metadata: Metadata = { title: 'Send' };

/** An hour that people like, on the next morning. */
const tomorrow = (now: Date, zone: string) => `${localOf(new Date(now.getTime() + 86_400_000), zone).slice(0, 10)}T08:00`;

export default async function Page({ params }: { params: Promise<{ slug: string; id: string }> }) {
  const { slug, id } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  const letter = await orNotFound(letterOf(ctx, newsletter, id));
  const base = `/desk/${slug}/letters/${id}`;
  if (!isWritable(letter.state)) redirect(base);
  const [draft, senders, layouts, domains, names, usual, versions] = await Promise.all([
    orNotFound(draftOf(ctx, newsletter, id)),
    sendersOf(ctx, newsletter),
    layoutsOf(ctx, newsletter),
    domainsOf(ctx, newsletter),
    namesFor(ctx, newsletter, letter.audience),
    usualRates(ctx, newsletter),
    versionsOf(ctx.db, letter.id),
  ]);
  if (draft.goes === 'page') redirect(base);
  const sender = senders.find((one) => one.id === letter.senderId);
  const domain = domains.find((one) => sender?.address.endsWith(`@${one.name}`));
  const ramp = domain ? await rampOf(ctx, newsletter, domain) : null;
  const layout = layouts.find((one) => (draft.layoutId ? one.id === draft.layoutId : one.usual));
  const zone = newsletter.time_zone;
  const departure: Departure = letter.departure ?? {
    when: letter.state === 'draft' ? 'now' : 'at',
    local: letter.state === 'draft' ? tomorrow(ctx.clock.now(), zone) : localOf(letter.dueAt, zone),
    zone,
    fold: 'first',
    pace: { kind: 'at once' },
  };
  return (
    <>
      <StageBar base={base} here="Send">
        <ButtonLink href={`${base}/write?see=proof`}>See it once more</ButtonLink>
      </StageBar>
      <LettingGo
        title={lineForAll(letter.subject) || 'Without a subject'}
        base={base}
        preview={lineForAll(letter.previewLine)}
        from={sender ? `${sender.name} <${sender.address}>` : 'Nobody yet'}
        to={`${audienceWords(letter.audience, names.choices.names, names.people)}${laneWords((await laneOf(ctx.db, newsletter, id))?.lane ?? null)}`}
        layout={layout?.name ?? 'The usual one'}
        page={draft.goes === 'letter' ? 'None, it is a letter alone' : 'It stands from the moment at which the letter leaves'}
        departure={{ ...departure, local: departure.local || tomorrow(ctx.clock.now(), zone) }}
        onRunway={letter.state !== 'draft'}
        callBackSeconds={newsletter.call_back_seconds}
        ceiling={
          ramp?.ahead[0]
            ? `${domain!.name} is ramped up: at most ${figure(ramp.ahead[0].ceiling)} leave on its first day, the others on the days after, at the same hour.`
            : null
        }
        trying={{
          test: letter.test && {
            ...letter.test,
            versions: versions.map(({ subject, senderId, beginning }) => ({ subject, senderId, beginning })),
          },
          own: { subject: lineForAll(letter.subject), senderId: letter.senderId },
          senders: senders
            .filter((one) => one.state === 'confirmed' && (!domain || one.address.endsWith(`@${domain.name}`)))
            .map((one) => ({ id: one.id, label: `${one.name} <${one.address}>` })),
          usual,
          counts: { opens: newsletter.count_opens, clicks: newsletter.count_clicks },
        }}
        keepTest={keepTest.bind(null, slug, id)}
        letGo={letItGo.bind(null, slug, id)}
      />
    </>
  );
}
