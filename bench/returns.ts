import { createGunzip, gzipSync } from 'node:zlib';
import { simpleParser } from 'mailparser';
import { pino } from 'pino';
import { deliveryToken } from '@/core/sending/token';
import { systemClock } from '@/server/clock/clock';
import { readConfig } from '@/server/config';
import type { Context } from '@/server/context';
import type { Db } from '@/server/db/connection';
import { readReport, uploadReport } from '@/server/delivery/read-reports';
import { Returns } from '@/server/delivery/returned';
import { takeApart } from '@/server/delivery/take-apart';
import { goneNotice } from '../backlot/mailboxes/notices';
import { deliveredLetter } from './letter';
import { benchEnv, outsideResolver } from './outside';
import type { Figure } from './report';

const NOTICES = 3_000;
/** As many as the mailroom lets in. */
const AT_ONCE = 100;
const RECORDS = 50_000;

/** Notices in five dialects, as the mailroom takes them, written and counted; and a report of fifty thousand records. */
export async function returns(db: Db, url: string): Promise<Figure[]> {
  const ctx: Context = {
    db,
    clock: systemClock,
    config: readConfig(benchEnv(url)),
    log: pino({ level: 'silent' }),
    resolver: outsideResolver(),
  };
  return [await notices(ctx), ...(await report(ctx))];
}

async function notices(ctx: Context): Promise<Figure> {
  const { rows } = await deliveredLetter(ctx, NOTICES);
  const original = `From: a@lanternfish.example\r\nSubject: B\r\nMessage-ID: <x@lanternfish.example>\r\n\r\n${'Words of a letter.\r\n'.repeat(150)}`;
  const raw = rows.map(({ id, sent_on, address }, n) => {
    const to = `b-${deliveryToken({ id: BigInt(id), sentOn: sent_on }, 'bounce', ctx.config.keys)}@bounce.lanternfish.example`;
    return {
      to,
      bytes: Buffer.from(
        goneNotice({ returnPath: to, recipient: address, host: 'mx.heronmail.example', date: ctx.clock.now(), original }, n % 5),
      ),
    };
  });
  const mailroom = new Returns(ctx);
  let next = 0;
  let kept = 0;
  const work = async () => {
    for (let one = raw[next++]; one; one = raw[next++])
      if ((await mailroom.take(one.to, await takeApart(one.bytes, ''))) === 'bounce') kept += 1;
  };
  const began = performance.now();
  await Promise.all(Array.from({ length: AT_ONCE }, work));
  const seconds = (performance.now() - began) / 1_000;
  if (kept !== NOTICES) throw new Error(`Only ${kept} of ${NOTICES} notices were kept.`);
  // The same mails taken apart by the library, and thrown away.
  const bare = performance.now();
  for (const { bytes } of raw.slice(0, 1_000)) await simpleParser(bytes, { skipTextToHtml: true, keepDeliveryStatus: true });
  const library = performance.now() - bare;
  return {
    name: 'a thousand notices read, marked, suppressed and counted',
    value: (1_000_000 * seconds) / NOTICES,
    unit: 'ms',
    yardstick: 'same mails taken apart by the library alone',
    yardstickValue: library,
    aim: { atMost: 1_000 },
  };
}

async function report(ctx: Context): Promise<Figure[]> {
  const { db } = ctx;
  const domain = await db.selectFrom('domains').select(['id', 'newsletter_id', 'name']).executeTakeFirstOrThrow();
  const record = (n: number) =>
    `<record><row><source_ip>10.${(n >> 16) & 255}.${(n >> 8) & 255}.${n & 255}</source_ip><count>${1 + (n % 9)}</count><policy_evaluated><disposition>none</disposition><dkim>${n % 3 ? 'pass' : 'fail'}</dkim><spf>${n % 4 ? 'pass' : 'fail'}</spf></policy_evaluated></row><identifiers><header_from>${domain.name}</header_from></identifiers><auth_results><dkim><domain>${domain.name}</domain><selector>ink1</selector><result>pass</result></dkim><spf><domain>s${n}.example</domain><result>pass</result></spf></auth_results></record>`;
  const day = Math.floor(Date.now() / 86_400_000 - 1) * 86_400;
  const xml = `<feedback><report_metadata><org_name>Bench</org_name><report_id>1</report_id><date_range><begin>${day}</begin><end>${day + 86_399}</end></date_range></report_metadata><policy_published><domain>${domain.name}</domain><p>none</p></policy_published>${Array.from({ length: RECORDS }, (_, n) => record(n)).join('')}</feedback>`;
  const bytes = gzipSync(xml);
  global.gc?.();
  const before = process.memoryUsage().rss;
  let most = before;
  const watch = setInterval(() => {
    most = Math.max(most, process.memoryUsage().rss);
  }, 5);
  const began = performance.now();
  await uploadReport(
    ctx,
    { id: domain.newsletter_id },
    domain.id,
    (async function* () {
      yield bytes;
    })(),
  );
  const took = performance.now() - began;
  clearInterval(watch);
  most = Math.max(most, process.memoryUsage().rss);
  const read = performance.now();
  await readReport(bytes);
  const reading = performance.now() - read;
  const bare = performance.now();
  const gunzip = createGunzip();
  gunzip.end(bytes);
  for await (const _ of gunzip);
  const unpacking = performance.now() - bare;
  console.log(`  ${(xml.length / 1e6).toFixed(1)} MB of XML; reading alone ${Math.round(reading)} ms`);
  return [
    {
      name: `a report of ${RECORDS.toLocaleString('en-GB')} records, read and kept`,
      value: took,
      unit: 'ms',
      yardstick: 'unpacking alone',
      yardstickValue: unpacking,
      aim: { atMost: 2_000 },
    },
    {
      name: 'memory that it took',
      value: (most - before) / 1e6,
      unit: 'MB',
      yardstick: 'length of its XML in MB',
      yardstickValue: xml.length / 1e6,
      aim: { atMost: 150 },
    },
  ];
}
