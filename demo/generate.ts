import { v7 } from 'uuid';
import { BURST_MS, isBurst, type MachineReason, machineReason } from '@/core/delivery/machine';
import { reasonOf } from '@/core/delivery/reason';
import { classify, sourceName, touchOfVisit } from '@/core/growth/attribution';
import { localDay } from '@/core/growth/days';
import { folded } from '@/core/readers/condition';
import { ofList } from '@/core/sending/audience';
import { type Document, run } from '@/core/writing/document';
import { chance as numbers } from '../backlot/public/chance';
import { type Act, comesOf, personAt } from '../backlot/public/people';
import { FARED, GUEST, NEXT, PARAGRAPHS, personOf, TITLES } from './words';

const DAY = 86_400_000;
const MINUTE = 60_000;
export const MONTHS_BACK = 18;
const PEOPLE = 3_020;
/** Who came in the days after the letter with a guest. */
const GUESTS = 190;
/** The letters during which fjordbox refused: the domain's mail host had been changed to a name that has no address. */
export const REFUSING = [31, 33] as const;
/** From this letter on postbird puts most copies into junk, and kestrel takes fewer at a time than are sent. */
export const LATELY = 37;
/** Which share of what postbird takes lies in junk since then. */
const LATELY_JUNK = 0.65;
/** Each letter has so many links that somebody would follow. */
export const LINKS = 3;
/** The readers of this newsletter report less than others. */
const MILD = 0.12;

export type DemoIds = {
  newsletter: string;
  lists: [thursday: string, field: string];
  forms: { page: string; article: string; corner: string };
  sender: string;
  domain: string;
};
type Row = Record<string, unknown>;
export type DemoRows = {
  readers: Row[];
  memberships: Row[];
  consents: Row[];
  suppressions: Row[];
  /** What was written for each letter. */
  written: (Row & { id: string; document: Document })[];
  letters: (Row & { id: string; post_id: string; preview_line: string })[];
  letterCounts: Row[];
  deliveries: Row[];
  feedback: Row[];
  events: Row[];
  /** What people really did with each letter, whatever could be seen of it. */
  truth: { letter_id: string; read: number; clicked: number }[];
  dailyCounts: Row[];
  formDays: Row[];
  posts: { slug: string; title: string; summary: string; html: string; at: string }[];
};

const slugOf = (title: string) =>
  title
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, '-')
    .replace(/^-|-$/g, '');

const NO_COUNTS = {
  recipients: 0,
  delivered: 0,
  bounced: 0,
  refused: 0,
  opened_people: 0,
  opened_machines: 0,
  clicked: 0,
  left_count: 0,
  complained: 0,
};

/**
 * Everything that happened to Lanternfish Letters in the 18 months before `now`: who came from where, who confirmed, what was sent to whom,
 * who read, clicked, left and bounced. What they do with a letter is what the Backlot's public does, each by the habits that their address has there, and what could
 * be seen of it is judged as any open or click is. Pure and seeded: the same input gives the same rows.
 */
export function generate(now: Date, zone: string, ids: DemoIds, site: string): DemoRows {
  const next = numbers(20_260_000);
  const chance = (p: number) => next() < p;
  const between = (low: number, high: number) => low + next() * (high - low);
  const begin = now.getTime() - MONTHS_BACK * 30.4 * DAY;
  const id = (at: number) => v7({ msecs: at, random: Uint8Array.from({ length: 16 }, () => Math.floor(next() * 256)) });
  const rows: DemoRows = {
    readers: [],
    memberships: [],
    consents: [],
    suppressions: [],
    written: [],
    letters: [],
    letterCounts: [],
    deliveries: [],
    feedback: [],
    events: [],
    truth: [],
    dailyCounts: [],
    formDays: [],
    posts: [],
  };

  const daily = new Map<string, { joined: number; left_count: number }>();
  const onDay = (at: number) => {
    const day = localDay(new Date(at), zone);
    const found = daily.get(day) ?? { joined: 0, left_count: 0 };
    daily.set(day, found);
    return found;
  };
  const formDays = new Map<
    string,
    { form: string; day: string; loaded: number; seen: number; started: number; sent_in: number; confirmed: number }
  >();
  const onForm = (form: string, at: number) => {
    const day = localDay(new Date(at), zone);
    const found = formDays.get(`${form} ${day}`) ?? { form, day, loaded: 0, seen: 0, started: 0, sent_in: 0, confirmed: 0 };
    formDays.set(`${form} ${day}`, found);
    return found;
  };

  // Letters: every second Thursday at about half past seven, and one this morning.
  const times = TITLES.map((_, n) => {
    if (n === TITLES.length - 1) return now.getTime() - 2 * 3_600_000;
    const back = (TITLES.length - 2 - n) * 13.7 + 5;
    const day = new Date(now.getTime() - back * DAY);
    day.setUTCDate(day.getUTCDate() + ((4 - day.getUTCDay() + 7) % 7));
    return Math.max(
      begin + 3 * DAY,
      Math.min(Date.UTC(day.getUTCFullYear(), day.getUTCMonth(), day.getUTCDate(), 7, 30), now.getTime() - 4 * DAY),
    );
  }).sort((a, b) => a - b);

  rows.posts = TITLES.slice(-16, -1).map(([title, summary], n) => ({
    slug: slugOf(title),
    title,
    summary,
    html: bodyOf(n + 3),
    at: new Date((times.slice(-16, -1)[n] ?? begin) - 20 * MINUTE).toISOString(),
  }));

  const pages = rows.posts.map((post) => `${site}/posts/${post.slug}`);
  /** Ways to the blog: the page before, and what the link said of itself. */
  type Way = { referrer: string; query: string; share: number; confirms: number; keen: number };
  const way = (referrer: string, query: string, share: number, confirms: number, keen: number): Way => ({
    referrer,
    query,
    share,
    confirms,
    keen,
  });
  // Each with its own story: the board brings many of whom few confirm, a small site brings few who stay.
  const ways: Way[] = [
    way('https://search.example/', '', 0.3, 0.92, 1),
    way('https://reefboard.example/threads/lanternfish', '', 0.24, 0.68, 0.75),
    way('https://tidelines.example/links', '', 0.08, 0.97, 1.35),
    way('', '', 0.22, 0.9, 1),
    way('https://reefboard.example/', '?utm_source=reefboard&utm_medium=social&utm_campaign=map-of-the-trench', 0.12, 0.74, 0.7),
    way('', '?utm_source=salt-and-ink&utm_medium=newsletter&utm_campaign=recommended', 0.04, 0.95, 1.2),
  ];
  const guestWay = way('', '?utm_source=tidelines-weekly&utm_medium=newsletter&utm_campaign=guest-letter', 0, 0.96, 1.25);
  const wayOf = (): number => {
    let rest = next();
    const found = ways.findIndex(({ share }) => {
      rest -= share;
      return rest < 0;
    });
    return Math.max(0, found);
  };
  const guestAt = times[TITLES.findIndex(([title]) => title === GUEST)]!;
  type Person = {
    id: string;
    address: string;
    key: string;
    provider: string;
    from: number;
    until: number;
    keen: number;
    /** How fast they cool down, a share a month. */
    cools: number;
    lists: string[];
  };
  const people: Person[] = [];

  for (let n = 0; n < PEOPLE + GUESTS; n += 1) {
    const guest = n >= PEOPLE;
    // More come later than early, and each new letter brings a small wave.
    const at = guest
      ? guestAt + between(1, 90) * 3_600_000
      : chance(0.35)
        ? (times[Math.floor(times.length * Math.sqrt(next()))] ?? begin) + between(1, 50) * 3_600_000
        : begin + Math.sqrt(next()) * (now.getTime() - begin);
    if (at > now.getTime() - 20 * MINUTE) continue;
    const form = guest || chance(0.58) ? ids.forms.article : chance(0.55) ? ids.forms.corner : ids.forms.page;
    const wayAt = wayOf();
    const came = guest ? guestWay : ways[wayAt]!;
    onForm(form, at).sent_in += 1;
    const shown = Math.round(between(18, 46));
    onForm(form, at).loaded += shown;
    onForm(form, at).seen += Math.round(shown * 0.62);
    onForm(form, at).started += chance(0.3) ? 2 : 1;
    // A card that comes over the page is sent in lightly, and seldom confirmed.
    const confirms = chance(came.confirms * (form === ids.forms.corner ? 0.66 : 1));
    const who = personOf(n, next());
    const readerId = id(at);
    const joined = at + between(1, 90) * MINUTE;
    const page = form === ids.forms.page ? `${site}/` : (pages[Math.floor(next() * pages.length)] ?? site);
    const { referrer: from, query } = came;
    const referrer = from || null;
    const last = touchOfVisit(page + query, from, new Date(at).toISOString());
    // A third came by another way some days before, and did not sign up yet.
    const { referrer: firstFrom, query: firstQuery } = ways[(wayAt + (n % 3 === 0 ? 1 : 0)) % ways.length]!;
    const first = n % 3 === 0 ? touchOfVisit(`${site}/${firstQuery}`, firstFrom, new Date(at - 4 * DAY).toISOString()) : last;
    const both = chance(0.3);
    const lists = both ? ids.lists : chance(0.85) ? [ids.lists[0]] : [ids.lists[1]];
    const firstName = chance(0.6) ? who.firstName : null;
    rows.readers.push({
      id: readerId,
      newsletter_id: ids.newsletter,
      address: who.address,
      address_key: who.address,
      first_name: firstName,
      name_key: firstName && folded(firstName),
      address_state: 'fine',
      source_form_id: form,
      source_page: page,
      source_referrer: referrer,
      source_class: classify(last),
      source_name: sourceName(last),
      first_touch: first,
      last_touch: last,
      source_placement: form === ids.forms.corner ? 'corner card' : 'panel',
      source_language: 'en',
      created_at: new Date(at).toISOString(),
    });
    for (const list of lists) {
      const consent = {
        newsletter_id: ids.newsletter,
        reader_id: readerId,
        list_id: list,
        list_name: list === ids.lists[0] ? 'Thursday letters' : 'Field notes',
        actor: 'reader',
        form_id: form,
        page,
        referrer,
        network: `198.51.100.${Math.floor(next() * 250)}`,
        agent: 'A browser',
      };
      rows.consents.push({
        ...consent,
        act: 'ask',
        state: 'waiting',
        at: new Date(at).toISOString(),
        wording:
          'Letters from the deep, on Thursdays\nOne long read, no adverts. Leave whenever you like.\n[Send me the next one]',
      });
      if (confirms)
        rows.consents.push({ ...consent, act: 'confirm', state: 'reading', at: new Date(joined).toISOString(), wording: null });
    }
    if (confirms) {
      onForm(form, joined).confirmed += 1;
      onDay(joined).joined += 1;
      people.push({
        id: readerId,
        address: who.address,
        key: who.address,
        provider: who.provider,
        from: joined,
        until: Infinity,
        keen: came.keen,
        cools: chance(0.55) ? between(0.05, 0.2) : 0,
        lists: [...lists],
      });
    }
    for (const list of lists) {
      rows.memberships.push({
        reader_id: readerId,
        list_id: list,
        newsletter_id: ids.newsletter,
        state: confirms ? 'reading' : 'waiting',
        since: new Date(confirms ? joined : at).toISOString(),
        joined_at: confirms ? new Date(joined).toISOString() : null,
      });
    }
  }

  const reader = new Map(rows.readers.map((row) => [row.id as string, row]));
  const membership = new Map<string, Row[]>();
  for (const row of rows.memberships)
    membership.set(row.reader_id as string, [...(membership.get(row.reader_id as string) ?? []), row]);
  const buried = new Set<string>();
  let deliveryId = 0;

  TITLES.forEach(([title, summary], n) => {
    const at = times[n]!;
    const letterId = id(at);
    const sentOn = new Date(at).toISOString().slice(0, 10);
    const list = ids.lists[0];
    const counts = { ...NO_COUNTS };
    const truth = { letter_id: letterId, read: 0, clicked: 0 };
    for (const person of people) {
      if (person.from > at || person.until <= at || buried.has(person.id) || !person.lists.includes(list)) continue;
      counts.recipients += 1;
      deliveryId += 1;
      const fresh = at - person.from < 15 * DAY;
      const dead = chance(fresh ? 0.006 : 0.0006);
      const unproven = person.provider === 'fjordbox.example' && n >= REFUSING[0] && n <= REFUSING[1];
      const refused = !dead && chance(unproven ? 0.71 : person.provider === 'fjordbox.example' ? 0.006 : 0.002);
      const deliveredAt = at + between(1, person.provider === 'kestrel.example' ? 14 : 4) * MINUTE;
      const soFar = now.getTime() - deliveredAt;
      const months = (at - person.from) / (30.4 * DAY);
      const arrived = !dead && !refused;
      const habits = personAt(person.address)!;
      const came = arrived
        ? comesOf(
            {
              ...habits,
              reads: Math.min(0.97, habits.reads * person.keen * (FARED[title] ?? 1) * (1 - person.cools) ** months),
              complains: habits.complains * MILD,
            },
            title,
            { links: LINKS, inJunk: n >= LATELY && person.provider === 'postbird.example' ? LATELY_JUNK : 0 },
          )
        : null;
      const acts = seenBy(came?.acts ?? [], deliveredAt, now.getTime());
      // A click is also an open by a person.
      const openedAt = Math.min(...acts.filter(({ why }) => !why).map(({ at: when }) => when));
      const clickedAt = Math.min(...acts.filter(({ why, kind }) => !why && kind === 'click').map(({ at: when }) => when));
      const machineAt = Math.min(
        ...acts.filter(({ why, kind }) => why === 'all links' || (why && kind === 'open')).map(({ at: when }) => when),
      );
      const [read, clicked, fetched] = [openedAt, clickedAt, machineAt].map(Number.isFinite) as [boolean, boolean, boolean];
      truth.read += came?.read ? 1 : 0;
      truth.clicked += came?.clicked ? 1 : 0;
      const putOff = n >= LATELY && person.provider === 'kestrel.example' && !dead && !refused ? deliveryId % 3 : 0;
      // Whoever reports a letter has done with the others, too.
      const complains = came?.complains ?? false;
      const leaves = arrived && soFar > 0 && (chance(0.0042) || complains);
      const leftAt = deliveredAt + between(10, 600) * MINUTE;
      const left = leaves && leftAt < now.getTime();
      counts.delivered += arrived ? 1 : 0;
      counts.bounced += dead ? 1 : 0;
      counts.refused += refused ? 1 : 0;
      counts.opened_people += read ? 1 : 0;
      counts.opened_machines += fetched ? 1 : 0;
      counts.clicked += clicked ? 1 : 0;
      const event = (kind: string, when: number, seen: Partial<Seen> = {}) =>
        rows.events.push({
          day: sentOn,
          at: new Date(when).toISOString(),
          newsletter_id: ids.newsletter,
          letter_id: letterId,
          delivery_id: deliveryId,
          reader_id: person.id,
          kind,
          machine: Boolean(seen.why),
          why: seen.why ?? null,
          link_position: seen.link ?? null,
          agent: seen.agent ?? null,
        });
      for (const act of acts) event(act.kind, act.at, act);
      if (left) {
        event('leave', leftAt);
        counts.left_count += 1;
        person.until = leftAt;
        onDay(leftAt).left_count += 1;
        for (const row of membership.get(person.id) ?? [])
          Object.assign(row, { state: 'left', since: new Date(leftAt).toISOString() });
        for (const l of person.lists)
          rows.consents.push({
            newsletter_id: ids.newsletter,
            reader_id: person.id,
            list_id: l,
            list_name: l === ids.lists[0] ? 'Thursday letters' : 'Field notes',
            actor: 'reader',
            form_id: null,
            page: null,
            referrer: null,
            network: null,
            agent: null,
            wording: null,
            act: 'leave',
            state: 'left',
            at: new Date(leftAt).toISOString(),
          });
      }
      if (left && complains) {
        counts.complained += 1;
        event('complaint', leftAt);
        Object.assign(reader.get(person.id)!, { address_state: 'suppressed' });
        rows.suppressions.push({
          newsletter_id: ids.newsletter,
          address_key: person.key,
          reason: 'complaint',
          at: new Date(leftAt).toISOString(),
          detail: 'Reported as unwanted',
        });
        rows.feedback.push({
          newsletter_id: ids.newsletter,
          letter_id: letterId,
          sent_on: sentOn,
          delivery_id: deliveryId,
          reader_id: person.id,
          kind: 'complaint',
          type: 'abuse',
          reporter: person.provider,
          known_by: 'return path',
          at: new Date(leftAt).toISOString(),
        });
      }
      if (dead) {
        event('bounce', deliveredAt);
        buried.add(person.id);
        Object.assign(reader.get(person.id)!, { address_state: 'suppressed' });
        rows.suppressions.push({
          newsletter_id: ids.newsletter,
          address_key: person.key,
          reason: 'hard bounce',
          at: new Date(deliveredAt).toISOString(),
          detail: '550 5.1.1 No such mailbox',
        });
      }
      const said = dead
        ? '550 5.1.1 No such mailbox'
        : refused
          ? unproven
            ? '550 5.1.8 Nobody takes mail for lanternfish.example, so nothing is taken from it'
            : '550 5.7.1 Not wanted here'
          : '250 2.0.0 Taken';
      rows.deliveries.push({
        id: deliveryId,
        sent_on: sentOn,
        newsletter_id: ids.newsletter,
        letter_id: letterId,
        reader_id: person.id,
        address: person.address,
        provider: person.provider,
        state: dead ? 'bounced' : refused ? 'refused' : 'delivered',
        due_at: new Date(at).toISOString(),
        attempts: 1 + putOff,
        delivered_at: arrived ? new Date(deliveredAt).toISOString() : null,
        opened_at: read ? new Date(openedAt).toISOString() : null,
        opened_by_machine_at: fetched ? new Date(machineAt).toISOString() : null,
        clicked_at: clicked ? new Date(clickedAt).toISOString() : null,
        left_at: left ? new Date(leftAt).toISOString() : null,
        response: said,
        reason: dead || refused ? reasonOf(550, said).reason : null,
      });
    }
    const postId = id(at - DAY);
    rows.written.push(postRow(postId, ids, title, summary, site, n, at - DAY));
    rows.letters.push(
      letterRow(letterId, postId, ids, list, title, summary, { state: 'sent', due: at, sentOn, finished: at + 16 * MINUTE }),
    );
    rows.letterCounts.push({ letter_id: letterId, newsletter_id: ids.newsletter, ...counts });
    rows.truth.push(truth);
  });

  const soon = nextThursday(now, 8.5);
  const letterId = id(now.getTime());
  const postId = id(now.getTime());
  rows.written.push(postRow(postId, ids, NEXT[0], NEXT[1], site, 1, now.getTime()));
  rows.letters.push(
    letterRow(letterId, postId, ids, ids.lists[0], NEXT[0], NEXT[1], {
      state: 'scheduled',
      due: soon,
      sentOn: null,
      finished: null,
    }),
  );
  rows.letterCounts.push({
    letter_id: letterId,
    newsletter_id: ids.newsletter,
    ...NO_COUNTS,
  });

  rows.dailyCounts = [...daily].map(([day, counts]) => ({ newsletter_id: ids.newsletter, day, ...counts }));
  rows.formDays = [...formDays.values()].map(({ form, ...counts }) => ({
    form_id: form,
    newsletter_id: ids.newsletter,
    ...counts,
  }));
  return rows;
}

type Seen = Act & { at: number; why: MachineReason | null };
/** What could be seen of somebody's acts until now, each judged as it is when it comes in. */
function seenBy(acts: readonly Act[], deliveredAt: number, now: number): Seen[] {
  const seen = acts
    .map((act) => ({ ...act, at: Math.round(deliveredAt + 1_000 * act.afterSeconds) }))
    .filter(({ at }) => at < now)
    .map((act) => ({ ...act, why: machineReason({ ...act, method: 'GET', secondsSinceDelivery: act.afterSeconds }) }));
  const clicks = seen.flatMap(({ kind, why, at, link }) => (kind === 'click' && !why && link !== null ? [{ at, link }] : []));
  if (!isBurst(clicks, LINKS)) return seen;
  const began = Math.min(...clicks.map(({ at }) => at));
  return seen.map((act) =>
    !act.why && act.at >= began && act.at <= began + BURST_MS ? { ...act, why: 'all links' as const } : act,
  );
}

const paragraphsOf = (n: number) => Array.from({ length: 5 }, (_, k) => PARAGRAPHS[(n * 5 + k * 3) % PARAGRAPHS.length]!);
/** Five paragraphs of a post of the blog; another n gives another beginning. */
export const bodyOf = (n: number): string =>
  paragraphsOf(n)
    .map((text) => `<p>${text}</p>`)
    .join('\n');

const iso = (at: number | null) => (at === null ? null : new Date(at).toISOString());

function postRow(id: string, ids: DemoIds, title: string, summary: string, site: string, n: number, at: number) {
  // Two of those that stand on the blog, which a reader may not know yet.
  const earlier = TITLES.filter(([other]) => other !== title)
    .slice(-17, -1)
    .slice(n % 8)
    .slice(0, 2)
    .map(([other]) => run(other, `${site}/posts/${slugOf(other)}`));
  const paragraphs = [
    ...paragraphsOf(n).map((text) => run(text)),
    [...run('Before this: '), ...earlier[0]!, ...run('; and '), ...earlier[1]!, ...run('.')],
  ];
  const document: Document = { version: 1, nodes: paragraphs.map((inline) => ({ kind: 'paragraph', inline })) };
  return {
    id,
    newsletter_id: ids.newsletter,
    slug: slugOf(title),
    title,
    subtitle: summary,
    document,
    revision: 1,
    link: `${site}/posts/${slugOf(title)}`,
    created_at: iso(at),
    updated_at: iso(at),
    goes: 'letter',
    topics: [] as string[],
    picture: null as string | null,
    picture_alt: '',
    canonical: null as string | null,
    author: '',
    published_at: null as string | null,
  };
}

type Sending = { state: 'sent' | 'scheduled'; due: number; sentOn: string | null; finished: number | null };

function letterRow(id: string, postId: string, ids: DemoIds, list: string, title: string, summary: string, to: Sending) {
  const sent = to.state === 'sent';
  return {
    id,
    newsletter_id: ids.newsletter,
    kind: 'post',
    post_id: postId,
    audience: ofList(list),
    sender_id: ids.sender,
    domain_id: sent ? ids.domain : null,
    subject: title,
    preview_line: summary,
    chips: [],
    state: to.state,
    state_at: iso(to.finished ?? to.due - DAY),
    due_at: iso(to.due),
    started_at: sent ? iso(to.due) : null,
    finished_at: iso(to.finished),
    sent_on: to.sentOn,
    from_name: sent ? 'Ottoline Vance' : null,
    from_address: sent ? 'letters@lanternfish.example' : null,
    created_at: iso(to.due - DAY),
  };
}

/** The next Thursday at an hour of the day (UTC), at least a day ahead. */
function nextThursday(now: Date, hour: number): number {
  const day = new Date(now.getTime() + DAY);
  day.setUTCDate(day.getUTCDate() + ((4 - day.getUTCDay() + 7) % 7));
  return Date.UTC(day.getUTCFullYear(), day.getUTCMonth(), day.getUTCDate()) + hour * 3_600_000;
}
