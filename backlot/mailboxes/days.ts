import { place, readJson, worldNow, writeFileWhole } from '../shell/world';
import { elsewhere, reportMail, type SeenMails } from './dmarc';
import { signed } from './signing';
import * as store from './store';
import { resolver } from './verify';

const file = place('mail', 'reported.json');
const DAY_MS = 86_400_000;
const EVERY_MS = 1_000;
/** After a long jump of the clock only so many days are reported. */
const MOST_DAYS = 5;
const SENDER = '127.0.0.1';

const dayOf = (at: number) => new Date(at).toISOString().slice(0, 10);
const domainOf = (address: string) => (/@([^\s<>@]+)>?\s*$/.exec(address)?.[1] ?? '').toLowerCase();
const below = (name: string, domain: string) => name === domain || name.endsWith(`.${domain}`);

/** What a domain asks for: its policy, and where reports of it go. */
async function policyOf(domain: string): Promise<{ policy: string; to: string } | null> {
  try {
    const record = (await resolver.resolveTxt(`_dmarc.${domain}`))
      .map((parts) => parts.join(''))
      .find((text) => /^v=DMARC1/i.test(text));
    const to = /\brua\s*=\s*mailto:([^\s;,!]+)/i.exec(record ?? '')?.[1];
    return to ? { policy: /\bp\s*=\s*(\w+)/i.exec(record ?? '')?.[1] ?? 'none', to } : null;
  } catch {
    return null;
  }
}

/** A day's letters in a domain's name at one provider, those that were judged alike together. */
function seenOf(letters: store.Stored[], domain: string): SeenMails[] {
  const rows = new Map<string, SeenMails>();
  for (const { verdicts } of letters) {
    if (!verdicts) continue;
    const [, selector = '', signer = ''] = /^(\S*?)\._domainkey\.(\S+)/.exec(verdicts.dkim.detail) ?? [];
    const back = verdicts.spf.detail.split('@').at(-1) ?? '';
    const row: SeenMails = {
      ip: SENDER,
      mails: 0,
      disposition: 'none',
      dkim: verdicts.dkim.result === 'pass' && below(signer, domain),
      spf: verdicts.spf.result === 'pass' && below(back, domain),
      from: domain,
      ...(signer ? { signature: { domain: signer, selector, result: verdicts.dkim.result } } : {}),
      ...(back ? { returnPath: { domain: back, result: verdicts.spf.result } } : {}),
    };
    const key = JSON.stringify(row);
    const known = rows.get(key) ?? row;
    known.mails += 1;
    rows.set(key, known);
  }
  return [...rows.values()];
}

async function reportDay(day: string, send: (to: string, raw: string, from: string) => Promise<void>): Promise<void> {
  const groups = new Map<string, store.Stored[]>();
  for (const letter of store.list()) {
    if (!letter.at.startsWith(day)) continue;
    const key = `${domainOf(letter.to)} ${domainOf(letter.from)}`;
    groups.set(key, [...(groups.get(key) ?? []), letter]);
  }
  for (const [key, letters] of groups) {
    const [reporter = '', domain = ''] = key.split(' ');
    const asked = domain ? await policyOf(domain) : null;
    const seen = seenOf(letters, domain);
    if (!asked || seen.length === 0) continue;
    const selector = seen.find((one) => one.dkim)?.signature?.selector ?? '';
    const all = [...seen, ...elsewhere(reporter, domain, day, asked.policy, letters.length, selector)];
    const mail = reportMail({ reporter, domain, policy: asked.policy, day, seen: all }, asked.to);
    await send(asked.to, await signed(reporter, mail), `reports@${reporter}`);
  }
}

/** Reports each day once it is over, by this world's clock. */
export function reportDays(send: (to: string, raw: string, from: string) => Promise<void>): void {
  const state = readJson<{ until: string }>(file, { until: '' });
  const keep = (until: string) => {
    if (state.until === until) return;
    state.until = until;
    writeFileWhole(file, JSON.stringify(state));
  };
  const work = async () => {
    const today = dayOf((await worldNow()).getTime());
    if (!state.until || state.until > today) keep(today);
    const first = Math.max(Date.parse(state.until), Date.parse(today) - MOST_DAYS * DAY_MS);
    for (let at = first; dayOf(at) < today; at += DAY_MS) {
      await reportDay(dayOf(at), send);
      keep(dayOf(at + DAY_MS));
    }
    keep(today);
  };
  const again = () =>
    void work()
      .catch(() => {})
      .finally(() => setTimeout(again, EVERY_MS));
  again();
}
