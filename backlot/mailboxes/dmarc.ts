import { gzipSync } from 'node:zlib';
import { esc } from '../shell/page';

/** Mails that came from one address and were judged alike. */
export type SeenMails = {
  ip: string;
  mails: number;
  disposition: 'none' | 'quarantine' | 'reject';
  dkim: boolean;
  spf: boolean;
  from: string;
  signature?: { domain: string; selector: string; result: string };
  returnPath?: { domain: string; result: string };
  reason?: string;
};
export type DaySeen = { reporter: string; domain: string; policy: string; day: string; seen: SeenMails[] };

/** A provider's report of a day (RFC 7489, appendix C). */
export function aggregateReport({ reporter, domain, policy, day, seen }: DaySeen): string {
  const begin = Date.parse(`${day}T00:00:00Z`) / 1_000;
  const word = (good: boolean) => (good ? 'pass' : 'fail');
  const rows = seen.map(
    (one) =>
      `<record><row><source_ip>${one.ip}</source_ip><count>${one.mails}</count><policy_evaluated><disposition>${one.disposition}</disposition><dkim>${word(one.dkim)}</dkim><spf>${word(one.spf)}</spf>${one.reason ? `<reason><type>${one.reason}</type></reason>` : ''}</policy_evaluated></row><identifiers><header_from>${esc(one.from)}</header_from></identifiers><auth_results>${one.signature ? `<dkim><domain>${esc(one.signature.domain)}</domain><selector>${esc(one.signature.selector)}</selector><result>${esc(one.signature.result)}</result></dkim>` : ''}${one.returnPath ? `<spf><domain>${esc(one.returnPath.domain)}</domain><scope>mfrom</scope><result>${esc(one.returnPath.result)}</result></spf>` : ''}</auth_results></record>`,
  );
  return `<?xml version="1.0" encoding="UTF-8"?>\n<feedback><version>1.0</version><report_metadata><org_name>${esc(reporter)}</org_name><email>reports@${esc(reporter)}</email><report_id>${day}.${esc(domain)}@${esc(reporter)}</report_id><date_range><begin>${begin}</begin><end>${begin + 86_399}</end></date_range></report_metadata><policy_published><domain>${esc(domain)}</domain><adkim>r</adkim><aspf>r</aspf><p>${policy}</p><sp>${policy}</sp><pct>100</pct></policy_published>\n${rows.join('\n')}\n</feedback>\n`;
}

/** The same as a mail, packed as most pack it. */
export function reportMail(of: DaySeen, to: string): string {
  const name = `${of.reporter}!${of.domain}!${of.day}.xml.gz`;
  const packed = gzipSync(aggregateReport(of)).toString('base64').replace(/.{76}/g, '$&\r\n');
  return [
    `From: Reports of ${of.reporter} <reports@${of.reporter}>`,
    `To: ${to}`,
    `Subject: Report Domain: ${of.domain} Submitter: ${of.reporter}`,
    'MIME-Version: 1.0',
    `Content-Type: application/gzip; name="${name}"`,
    `Content-Disposition: attachment; filename="${name}"`,
    'Content-Transfer-Encoding: base64',
    '',
    packed,
    '',
  ].join('\r\n');
}

/**
 * What else comes in a domain's name: strangers, and mail that readers have forwarded. The same for the same provider, domain and day. `taken` is how many of the
 * writer's own mails came that day.
 */
export function elsewhere(
  reporter: string,
  domain: string,
  day: string,
  policy: string,
  taken: number,
  selector: string,
): SeenMails[] {
  const seed = [...`${reporter}${domain}${day}`].reduce((sum, letter) => (sum * 33 + letter.charCodeAt(0)) % 1_000_003, 5);
  const pick = (n: number) => Math.floor(seed / (n + 1)) % n;
  const stopped = policy === 'reject' || policy === 'quarantine' ? policy : 'none';
  const found: SeenMails[] = [];
  if (seed % 3 === 0)
    found.push({
      ip: `203.0.113.${20 + pick(7)}`,
      mails: 1 + pick(9),
      disposition: stopped,
      dkim: false,
      spf: false,
      from: domain,
      returnPath: { domain: 'cheap-parcels.example', result: 'pass' },
    });
  const forwarded = Math.round(taken / 90);
  if (forwarded)
    found.push({
      ip: '198.51.100.40',
      mails: forwarded,
      disposition: 'none',
      dkim: true,
      spf: false,
      from: domain,
      signature: { domain, selector, result: 'pass' },
      returnPath: { domain: 'alumni.example', result: 'pass' },
    });
  if (taken > 100 && seed % 4 === 0)
    found.push({
      ip: '198.51.100.77',
      mails: 1 + pick(3),
      disposition: stopped,
      dkim: false,
      spf: false,
      from: domain,
      signature: { domain, selector, result: 'fail' },
      returnPath: { domain: 'reading-circle.example', result: 'pass' },
      reason: 'mailing_list',
    });
  return found;
}
