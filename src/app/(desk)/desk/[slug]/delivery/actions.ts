'use server';

import { redirect } from 'next/navigation';
import { proposeRamp, type RampPlan } from '@/core/delivery/ramp';
import { type ActionResult, Fault } from '@/core/faults';
import { localDay } from '@/core/growth/days';
import { letReportCount } from '@/server/delivery/read-reports';
import { totalsOf } from '@/server/readers/readers';
import { mailRecords } from '@/server/senders/alarm';
import { addDomain, checkDomain, domainOf, previewZone, removeDomain, setRamp, type ZonePreview } from '@/server/senders/domains';
import { prepareNextKey, switchAliases, switchSecondKey, useNextKey } from '@/server/senders/keys';
import { addSender, changeSender, removeSender, resendProof, setDefaultSender } from '@/server/senders/senders';
import { sendTestLetter } from '@/server/sending/test-letter';
import { onDesk } from '../../../../desk';

type Done = Promise<ActionResult<unknown>>;

export async function makeSender(slug: string, data: FormData): Done {
  return onDesk(slug, (ctx, newsletter, person) => addSender(ctx, newsletter, Object.fromEntries(data), person));
}
export async function editSender(slug: string, id: string, data: FormData): Done {
  return onDesk(slug, (ctx, newsletter) => changeSender(ctx, newsletter, id, Object.fromEntries(data)));
}
export async function sendProofAgain(slug: string, id: string): Done {
  return onDesk(slug, (ctx, newsletter) => resendProof(ctx, newsletter, id));
}
export async function chooseDefault(slug: string, id: string): Done {
  return onDesk(slug, (ctx, newsletter) => setDefaultSender(ctx, newsletter, id));
}
export async function dropSender(slug: string, id: string): Done {
  return onDesk(slug, (ctx, newsletter) => removeSender(ctx, newsletter, id));
}

export async function makeDomain(slug: string, data: FormData): Done {
  const result = await onDesk(slug, async (ctx, newsletter) => {
    const { id } = await addDomain(ctx, newsletter, data.get('name'));
    await checkDomain(ctx, id, newsletter.id);
    return id;
  });
  if (!result.ok) return result;
  redirect(`/desk/${slug}/delivery/domains/${result.value}#matter`);
}
export async function dropDomain(slug: string, id: string): Done {
  const result = await onDesk(slug, (ctx, newsletter) => removeDomain(ctx, newsletter, id));
  if (!result.ok) return result;
  redirect(`/desk/${slug}/delivery`);
}
export async function checkNow(slug: string, id: string): Done {
  return onDesk(
    slug,
    async (ctx, newsletter) => {
      await checkDomain(ctx, id, newsletter.id);
    },
    'look',
  );
}
export async function letCount(slug: string, id: string): Done {
  return onDesk(slug, (ctx, newsletter) => letReportCount(ctx, newsletter, id));
}
export async function sendRecords(slug: string, id: string, data: FormData): Done {
  return onDesk(slug, async (ctx, newsletter, person) =>
    mailRecords(ctx, newsletter, person, await domainOf(ctx, newsletter, id), data.get('to')),
  );
}
export async function testLetter(slug: string, id: string): Promise<ActionResult<{ said: string }>> {
  return onDesk(slug, (ctx, newsletter, person) => sendTestLetter(ctx, newsletter, person, id));
}
export async function tryZone(slug: string, id: string, text: string): Promise<ActionResult<ZonePreview>> {
  return onDesk(slug, (ctx, newsletter) => previewZone(ctx, newsletter, id, text), 'look');
}

/** One of the acts on a domain's keys, followed by a check so that the screen shows what is found. */
export async function turnKey(
  slug: string,
  id: string,
  act: 'prepare' | 'use' | 'second-on' | 'second-off' | 'aliases-on' | 'aliases-off',
): Done {
  return onDesk(slug, async (ctx, newsletter) => {
    if (act === 'prepare') await prepareNextKey(ctx, newsletter, id);
    else if (act === 'use') await useNextKey(ctx, newsletter, id);
    else if (act === 'aliases-on' || act === 'aliases-off') await switchAliases(ctx, newsletter, id, act === 'aliases-on');
    else await switchSecondKey(ctx, newsletter, id, act === 'second-on');
    await checkDomain(ctx, id, newsletter.id);
  });
}

/** Starts a ramp-up for the newsletter's size, changes it, or ends it. */
export async function changeRamp(slug: string, id: string, data: FormData): Done {
  return onDesk(slug, async (ctx, newsletter) => {
    if (data.get('end')) return setRamp(ctx, newsletter, id, null);
    const today = localDay(ctx.clock.now(), newsletter.time_zone);
    const { reading } = await totalsOf(ctx, newsletter);
    const start = proposeRamp(Math.max(reading, 1), today);
    const number = (name: keyof RampPlan & string, otherwise: number, least: number, most: number) => {
      const typed = data.get(name);
      if (typed === null || typed === '') return otherwise;
      const value = Number(typed);
      if (!Number.isInteger(value) || value < least || value > most)
        throw new Fault('invalid', `A whole number from ${least} to ${most} is wanted.`, { [name]: `From ${least} to ${most}.` });
      return value;
    };
    const volume = number('volume', start.volume, 20, 2_000_000);
    const startedOn = String(data.get('startedOn') || today);
    await setRamp(ctx, newsletter, id, {
      startedOn,
      volume,
      first: number('first', Math.min(start.first, volume), 1, volume),
      days: number('days', start.days, 1, 60),
    });
  });
}
