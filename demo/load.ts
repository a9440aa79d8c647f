import { Readable } from 'node:stream';
import { sql } from 'kysely';
import { ALL_WHOLE } from '@/core/autosend/feed';
import { itemKey, printOf } from '@/core/autosend/items';
import { LANES } from '@/core/autosend/lanes';
import { laneRhythm, usualSettings } from '@/core/autosend/rule';
import { formCodes } from '@/core/forms/codes';
import { type FormDefinition, startingForm } from '@/core/forms/definition';
import { FIRST_NAME_FIELD } from '@/core/forms/fields';
import type { Condition } from '@/core/readers/condition';
import { zoneFile } from '@/core/senders/zone-file';
import { ofList } from '@/core/sending/audience';
import { bind, type Layout } from '@/core/writing/layout';
import { STARTING_LOOK } from '@/core/writing/look';
import { renderHtml, takeLinks } from '@/core/writing/render';
import { renderText } from '@/core/writing/text';
import { openAuth } from '@/server/auth/auth';
import { readFeed } from '@/server/autosend/feeds';
import { nextHour } from '@/server/autosend/runs';
import { readConfig } from '@/server/config';
import type { Context, Newsletter } from '@/server/context';
import type { Db } from '@/server/db/connection';
import { uploadReport } from '@/server/delivery/read-reports';
import { createForm, formOf, publishForm, saveDraft } from '@/server/forms/forms';
import { addNote, setGoal } from '@/server/growth/growth';
import { newId } from '@/server/ids';
import { keepSegment, measureSegments } from '@/server/readers/segments';
import { warmReaders } from '@/server/readers/warming';
import { openRuntime } from '@/server/runtime';
import { addDomain, checkDomain, domainOf } from '@/server/senders/domains';
import { setCopySpans } from '@/server/sending/results';
import { createNewsletter } from '@/server/site/founding';
import { aggregateReport, elsewhere, type SeenMails } from '../backlot/mailboxes/dmarc';
import { writeDrafts } from './drafts';
import { essay, layouts } from './essay';
import { type DemoIds, generate, LINKS, MONTHS_BACK, REFUSING } from './generate';
import { GUEST } from './words';

export const ACCOUNT = { name: 'Ottoline Vance', email: 'ottoline@lanternfish.example', password: 'six hundred metres down' };
const ZONE = 'Europe/Lisbon';
/** Lanternfish’s letters: the whole essay under its title and its one-line beginning, and a way back to the blog. */
const LAYOUT: Layout = {
  version: 1,
  look: STARTING_LOOK,
  nodes: [
    { kind: 'post', part: 'title' },
    { kind: 'post', part: 'subtitle' },
    { kind: 'post', part: 'body' },
    { kind: 'post', part: 'link', label: 'Read it on the site and say what you think' },
  ],
};
/** Where the Backlot's DNS host and blog answer, and the address under which readers know the blog. */
type Outside = { dnsPage: string; blog: string };

/**
 * Loads the demo newsletter and its part of the Backlot, once. A second call finds it there and changes nothing but how many readers it has: with
 * `readers`, so many more come that there are that many.
 */
export async function loadDemo(
  env: Record<string, string>,
  outside: Outside,
  say: (text: string) => void,
  readers: number | null = null,
): Promise<{ account: typeof ACCOUNT; slug: string }> {
  const ctx = await openRuntime('demo', readConfig({ ...env, INKSET_LOG_LEVEL: 'error' }), 4);
  try {
    const there = await ctx.db.selectFrom('user').select('id').where('email', '=', ACCOUNT.email).executeTakeFirst();
    if (there) {
      const { slug } = await ctx.db
        .selectFrom('newsletters')
        .innerJoin('members', 'members.newsletter_id', 'newsletters.id')
        .select('slug')
        .where('user_id', '=', there.id)
        .orderBy('newsletters.created_at')
        .executeTakeFirstOrThrow();
      if (readers) await crowd(ctx, slug, readers, say);
      return { account: ACCOUNT, slug };
    }
    say('Loading the demo newsletter ...');
    const newsletter = await account(ctx);
    const ids = await identity(ctx, newsletter, outside);
    await history(ctx, newsletter, ids, outside);
    await writeDrafts(ctx, newsletter, ACCOUNT.name, outside.blog);
    if (readers) await crowd(ctx, newsletter.slug, readers, say);
    return { account: ACCOUNT, slug: newsletter.slug };
  } finally {
    await ctx.close();
  }
}

async function account(ctx: Context & { pool: import('pg').Pool }): Promise<Newsletter> {
  const auth = openAuth(ctx, ctx.pool);
  const { user } = await auth.api.signUpEmail({ body: { name: ACCOUNT.name, email: ACCOUNT.email, password: ACCOUNT.password } });
  await sql`update "user" set "emailVerified" = true where id = ${user.id}`.execute(ctx.db);
  await ctx.db.deleteFrom('mails').where('to_address', '=', ACCOUNT.email).execute();
  const newsletter = await createNewsletter(ctx, user.id, {
    name: 'Lanternfish Letters',
    description: 'Essays on deep-sea life, on Thursdays.',
    postalAddress: 'Lanternfish Letters\nPO Box 600\n1100-001 Lisbon',
    timeZone: ZONE,
  });
  const begin = new Date(ctx.clock.now().getTime() - MONTHS_BACK * 30.4 * 86_400_000);
  const settings = {
    colour: '#10282f',
    site: 'lanternfish.example',
    created_at: begin,
    reason_line: 'You get this because you signed up for Lanternfish Letters on lanternfish.example and confirmed it by email.',
  };
  const links = JSON.stringify([{ label: 'lanternfish.example', url: 'https://lanternfish.example/' }]);
  await ctx.db
    .updateTable('newsletters')
    .set({ ...settings, social_links: links, alert_leaves: 'daily' })
    .where('id', '=', newsletter.id)
    .execute();
  return { ...newsletter, ...settings };
}

/** Lists, forms, senders, and a domain whose records are published at the Backlot's DNS host and found right. */
async function identity(ctx: Context, newsletter: Newsletter, outside: Outside): Promise<DemoIds & { below: string }> {
  const { db } = ctx;
  const of = { newsletter_id: newsletter.id, created_at: newsletter.created_at };
  const first = await db
    .updateTable('lists')
    .set({ name: 'Thursday letters', public_name: 'Thursday letters' })
    .where('newsletter_id', '=', newsletter.id)
    .returning('id')
    .executeTakeFirstOrThrow();
  const field = newId();
  await db
    .insertInto('lists')
    .values({ id: field, ...of, name: 'Field notes', public_name: 'Field notes', position: 1 })
    .execute();
  const definition: FormDefinition = {
    ...startingForm(newsletter.name),
    heading: 'Letters from the deep, on Thursdays',
    words: 'One long read, no adverts. Leave whenever you like.',
  };
  const article = await createForm(ctx, newsletter, { name: 'After every article' });
  const corner = await createForm(ctx, newsletter, { name: 'Corner card on the home page' });
  const live = async (id: string, changed: FormDefinition, listIds: string[]) => {
    const form = await formOf(ctx, newsletter, id);
    await saveDraft(ctx, newsletter, id, { name: form.name, definition: changed, listIds });
    await publishForm(ctx, newsletter, id);
  };
  await live(
    article.id,
    {
      ...definition,
      fields: [
        { ...FIRST_NAME_FIELD, width: 'half' },
        ...definition.fields.map((entry) => ({ ...entry, width: 'half' as const })),
      ],
      countFrom: 500,
      next: { ...definition.next, tags: ['from an article'] },
    },
    [first.id],
  );
  await live(
    corner.id,
    {
      ...definition,
      look: { ...definition.look, padding: 20, radius: 10 },
      placement: { ...definition.placement, kind: 'corner card', trigger: { ...definition.placement.trigger, seconds: 12 } },
    },
    [first.id],
  );
  await db.updateTable('forms').set({ created_at: newsletter.created_at }).where('newsletter_id', '=', newsletter.id).execute();
  const page = await db
    .selectFrom('forms')
    .select('id')
    .where('newsletter_id', '=', newsletter.id)
    .where('hosted', '=', true)
    .executeTakeFirstOrThrow();

  const sender = newId();
  await db
    .insertInto('senders')
    .values([
      {
        id: sender,
        ...of,
        name: 'Ottoline Vance',
        address: 'letters@lanternfish.example',
        domain: 'lanternfish.example',
        confirmed_at: newsletter.created_at,
      },
      {
        id: newId(),
        newsletter_id: newsletter.id,
        created_at: ctx.clock.now(),
        name: 'Lanternfish field desk',
        address: 'field@lanternfish.example',
        domain: 'lanternfish.example',
        proof_sent_at: ctx.clock.now(),
      },
    ])
    .execute();
  await db.updateTable('newsletters').set({ default_sender_id: sender }).where('id', '=', newsletter.id).execute();
  const domain = await addDomain(ctx, newsletter, 'lanternfish.example');
  const below = await addDomain(ctx, newsletter, 'field.lanternfish.example');
  await put(`${outside.dnsPage}/api/oldhost.example`, '_spf IN TXT "v=spf1 ip4:203.0.113.0/24 ~all"\nmx IN A 203.0.113.7\n');
  await publish(ctx, newsletter, { domain: domain.id, below: below.id }, outside, MAIL_HOST);
  await checkDomain(ctx, domain.id);
  await checkDomain(ctx, below.id);
  await db
    .updateTable('domains')
    .set({ steady_since: newsletter.created_at, created_at: newsletter.created_at })
    .where('id', '=', domain.id)
    .execute();
  return {
    newsletter: newsletter.id,
    lists: [first.id, field],
    forms: { page: page.id, article: article.id, corner: corner.id },
    sender,
    domain: domain.id,
    below: below.id,
  };
}

const MAIL_HOST = 'mx.postbird.example';

/** The zone as its writer keeps it. The main domain is whole; the one for field notes is half set up, as one finds them: an older host still stands in it. */
async function publish(
  ctx: Context,
  newsletter: Newsletter,
  ids: { domain: string; below: string },
  outside: Outside,
  mailHost: string,
): Promise<void> {
  const { records } = await domainOf(ctx, newsletter, ids.domain);
  const key = (await domainOf(ctx, newsletter, ids.below)).records.filter((record) => record.purpose === 'dkim');
  const others = `@ IN MX 10 ${mailHost}.\n@ IN A 127.0.0.1\nfield IN TXT "v=spf1 include:_spf.oldhost.example ~all"\nbounce.field IN CNAME mx.oldhost.example.\nfield IN MX 10 mx.postbird.example.\n`;
  await put(
    `${outside.dnsPage}/api/lanternfish.example`,
    `${zoneFile('lanternfish.example', records)}${zoneFile('lanternfish.example', key)}${others}`,
  );
}

/**
 * How a provider came to refuse three letters: the writer changed the domain's mail host and wrote a name that has no address; then it was mended.
 * Each state is really published and really checked; only the times of the checks are put back to the letters'.
 */
async function changedMailHost(
  ctx: Context,
  newsletter: Newsletter,
  ids: DemoIds & { below: string },
  outside: Outside,
  letters: Record<string, unknown>[],
): Promise<void> {
  const at = (n: number, days: number) => new Date(Date.parse(String(letters[n]!.started_at)) + days * 86_400_000);
  const checkedAt = async (at: Date, mailHost: string) => {
    await publish(ctx, newsletter, ids, outside, mailHost);
    await checkDomain(ctx, ids.domain);
    await sql`update domain_checks set at = ${at} where id = (select max(id) from domain_checks where domain_id = ${ids.domain})`.execute(
      ctx.db,
    );
  };
  // A worker may have looked before the zone stood there.
  await sql`delete from domain_checks where domain_id = ${ids.domain} and id < (select max(id) from domain_checks where domain_id = ${ids.domain})`.execute(
    ctx.db,
  );
  await ctx.db
    .updateTable('domain_checks')
    .set({ at: newsletter.created_at, changed: true })
    .where('domain_id', '=', ids.domain)
    .execute();
  await checkedAt(at(REFUSING[0], -2), 'mail.oldhost.example');
  await checkedAt(at(REFUSING[1], 3), MAIL_HOST);
  await checkDomain(ctx, ids.domain);
}

const SEGMENTS: [name: string, condition: Condition][] = [
  [
    'Cold for half a year',
    {
      kind: 'all',
      of: [
        { kind: 'standing', is: ['reading'] },
        { kind: 'none', of: [{ kind: 'read within', days: 180 }] },
        { kind: 'of the last', last: 8, what: 'read', most: 0 },
      ],
    },
  ],
  [
    'Read everything',
    {
      kind: 'all',
      of: [
        { kind: 'standing', is: ['reading'] },
        { kind: 'of the last', last: 8, what: 'read', least: 8 },
      ],
    },
  ],
  [
    'Came with the guest letter',
    {
      kind: 'all',
      of: [
        { kind: 'standing', is: ['reading'] },
        { kind: 'came by', what: 'source', is: 'tidelines-weekly' },
      ],
    },
  ],
];

async function history(ctx: Context, newsletter: Newsletter, ids: DemoIds & { below: string }, outside: Outside): Promise<void> {
  const now = ctx.clock.now();
  const rows = generate(now, ZONE, ids, outside.blog);
  const frame = {
    brand: { name: newsletter.name, colour: newsletter.colour, language: 'en' },
    colophon: { reasonLine: newsletter.reason_line, postalAddress: newsletter.postal_address },
  };
  const links: Record<string, unknown>[] = [];
  const layout = await ctx.db
    .updateTable('layouts')
    .set({ layout: JSON.stringify(LAYOUT) })
    .where('newsletter_id', '=', newsletter.id)
    .where('is_default', '=', true)
    .returning('id')
    .executeTakeFirstOrThrow();
  const written = new Map(rows.written.map((post) => [post.id, post]));
  // The last few stand on the newsletter's own pages too; the latest has all that a letter may have.
  const latest = rows.letters.filter((letter) => letter.state === 'sent').slice(-6);
  for (const [n, letter] of latest.entries()) {
    const post = written.get(letter.post_id)!;
    Object.assign(post, {
      goes: 'both',
      published_at: letter.started_at,
      canonical: post.link,
      topics: n % 2 ? ['Field notes'] : ['Deep water', 'Light'],
      author: ACCOUNT.name,
    });
    if (letter === latest.at(-1)) {
      const { document, picture } = await essay(ctx, newsletter);
      // What leads to earlier posts stands under this one, too.
      document.nodes.push(post.document.nodes.at(-1)!);
      Object.assign(post, { document, picture, picture_alt: 'Hundreds of small lights in dark water' });
    }
  }
  await layouts(ctx, newsletter);
  for (const letter of rows.letters) {
    Object.assign(letter, { layout_id: layout.id });
    if (letter.state !== 'sent') continue;
    const view = { ...frame, previewLine: letter.preview_line, countsOpens: true, look: LAYOUT.look, seen: true };
    const post = written.get(letter.post_id)!;
    const document = bind(LAYOUT, {
      title: String(post.title),
      subtitle: String(post.subtitle),
      summary: '',
      link: String(post.link),
      picture: null,
      author: '',
      day: '',
      document: post.document,
    });
    const taken = takeLinks(await renderHtml(document, view));
    if (taken.links.length < LINKS) throw new Error(`“${letter.preview_line}” has fewer links than its readers followed.`);
    const followed = rows.events.filter((event) => event.letter_id === letter.id && event.kind === 'click' && !event.machine);
    Object.assign(letter, { html: taken.html, text: renderText(document, view) });
    links.push(
      ...taken.links.map((url, position) => ({
        letter_id: letter.id,
        position,
        url,
        clicks: followed.filter((event) => event.link_position === position).length,
      })),
    );
  }
  await ctx.db.transaction().execute(async (db) => {
    for (let months = -1; months <= MONTHS_BACK; months += 1)
      await sql`select ensure_month((date_trunc('month', ${now}::timestamptz) - make_interval(months => ${months}))::date)`.execute(
        db,
      );
    const base = await reserveIds(db, rows.deliveries.length);
    const providers = await providersOf(
      db,
      rows.deliveries.map((row) => String(row.provider)),
    );
    for (const row of rows.deliveries) {
      row.id = base + Number(row.id);
      row.domain_id = providers.get(String(row.provider));
      delete row.provider;
    }
    for (const row of [...rows.events, ...rows.feedback]) row.delivery_id = base + Number(row.delivery_id);
    await bulk(db, 'readers', rows.readers);
    await bulk(db, 'memberships', rows.memberships);
    await bulk(db, 'consents', rows.consents);
    await bulk(db, 'suppressions', rows.suppressions);
    await bulk(db, 'posts', rows.written);
    for (const state of ['sent', 'scheduled'])
      await bulk(
        db,
        'letters',
        rows.letters.filter((letter) => letter.state === state),
      );
    await bulk(db, 'letter_links', links);
    await bulk(db, 'deliveries', rows.deliveries);
    await bulk(db, 'events', rows.events);
    await bulk(db, 'feedback', rows.feedback);
    // Who joined and left on which day is told by the story, not by what of it still stands.
    await sql`delete from day_changes where newsletter_id = ${newsletter.id}`.execute(db);
    await bulk(db, 'day_sums', rows.dailyCounts);
    await bulk(db, 'form_days', rows.formDays);
    await sql`update readers r set confirmed = true where newsletter_id = ${newsletter.id} and not confirmed
      and exists (select 1 from memberships m where m.reader_id = r.id and m.joined_at is not null)`.execute(db);
    await sql`
      update readers r set last_sent_at = d.sent, last_read_at = d.read, last_clicked_at = d.clicked
      from (select reader_id, max(delivered_at) as sent, max(opened_at) as read, max(clicked_at) as clicked from deliveries where newsletter_id = ${newsletter.id} group by 1) d
      where r.id = d.reader_id`.execute(db);
    await sql`
      insert into letter_sums (newsletter_id, letter_id, domain_id, recipients, delivered, bounced, refused, opened_people, opened_machines, clicked, left_count, hidden)
      select newsletter_id, letter_id, domain_id, count(*), count(*) filter (where state = 'delivered'), count(*) filter (where state = 'bounced'), count(*) filter (where state = 'refused'),
        count(opened_at), count(opened_by_machine_at), count(clicked_at), count(left_at), count(*) filter (where opened_by_machine_at is not null and opened_at is null)
      from deliveries where newsletter_id = ${newsletter.id} group by 1, 2, 3`.execute(db);
    await setCopySpans(db, newsletter.id);
    await sql`insert into letter_changes (newsletter_id, letter_id, domain_id, complained) select d.newsletter_id, d.letter_id, d.domain_id, count(*)
      from feedback f join deliveries d on d.sent_on = f.sent_on and d.id = f.delivery_id where f.newsletter_id = ${newsletter.id} and f.kind = 'complaint' group by 1, 2, 3`.execute(
      db,
    );
    await sql`insert into reason_changes (newsletter_id, domain_id, reason, day, ended) select newsletter_id, domain_id, reason, sent_on, count(*)
      from deliveries where newsletter_id = ${newsletter.id} and reason is not null group by 1, 2, 3, 4`.execute(db);
    await sql`insert into reason_changes (newsletter_id, domain_id, reason, day, put_off) select newsletter_id, domain_id, 'slow', sent_on, sum(attempts - 1)
      from deliveries where newsletter_id = ${newsletter.id} and attempts > 1 group by 1, 2, 4`.execute(db);
    // Her own boxes, and where the latest letter lay in them.
    const tried = rows.letters.filter(({ state }) => state === 'sent').at(-1)!;
    const testId = newId();
    await db
      .insertInto('seed_boxes')
      .values(
        PROVIDERS.map((name) => ({
          id: newId(),
          newsletter_id: newsletter.id,
          address: `ottoline.vance@${name}`,
          created_at: now,
        })),
      )
      .execute();
    await db
      .insertInto('seed_tests')
      .values({
        id: testId,
        newsletter_id: newsletter.id,
        letter_id: tried.id,
        subject: String(tried.subject),
        by_name: 'Ottoline Vance',
        at: new Date(now.getTime() - 20 * 3_600_000),
      })
      .execute();
    await db
      .insertInto('seed_copies')
      .values(
        PROVIDERS.map((name) => ({
          test_id: testId,
          address: `ottoline.vance@${name}`,
          mail_id: '0',
          place: name === 'postbird.example' ? ('junk' as const) : ('inbox' as const),
          said_at: now,
        })),
      )
      .execute();
    // Where the forms were seen: on the pages that brought readers, some thirty visits for each of them.
    await sql`
      insert into form_places (form_id, host, path, first_at, last_at, loads)
      select source_form_id, split_part(source_page, '/', 3), regexp_replace(source_page, '^https?://[^/]+', ''), min(created_at), max(created_at), count(*) * 30
      from readers where newsletter_id = ${newsletter.id} and source_page is not null and source_form_id is not null group by 1, 2, 3`.execute(
      db,
    );
  });
  // What the form under the articles gives whoever confirms.
  await sql`insert into reader_tags (reader_id, newsletter_id, tag, at) select id, newsletter_id, 'from an article', created_at from readers
    where newsletter_id = ${newsletter.id} and source_form_id = ${ids.forms.article} and confirmed`.execute(ctx.db);
  await changedMailHost(ctx, newsletter, ids, outside, rows.letters);
  await blog(ctx, newsletter, ids, rows.posts, outside);
  await reported(ctx, newsletter, rows.deliveries);
  await noted(ctx, newsletter, rows.letters);
  await sql`select recount_recent(${newsletter.id}::uuid)`.execute(ctx.db);
  await warmReaders(ctx, newsletter.id);
  for (const [name, condition] of SEGMENTS) await keepSegment(ctx, newsletter, null, { name, condition });
  await measureSegments(ctx, newsletter.id);
  await sql`analyze`.execute(ctx.db);
}

const DAY_MS = 86_400_000;
const PROVIDERS = ['heronmail.example', 'postbird.example', 'kestrel.example', 'fjordbox.example'];

/** What the providers reported of mail in the domain's name over the last weeks: the letters, a few confirmations on other days, and what else came. */
async function reported(ctx: Context, newsletter: Newsletter, deliveries: Record<string, unknown>[]): Promise<void> {
  const domain = await ctx.db
    .selectFrom('domains as d')
    .innerJoin('domain_keys as k', 'k.domain_id', 'd.id')
    .select(['d.id', 'd.name', 'k.selector'])
    .where('d.newsletter_id', '=', newsletter.id)
    .where('d.name', '=', 'lanternfish.example')
    .where('k.role', '=', 'active')
    .executeTakeFirst();
  if (!domain) return;
  const { name, selector } = domain;
  const [ip = '127.0.0.1'] = ctx.config.sendingAddresses;
  for (let back = 34; back >= 1; back -= 1) {
    const day = new Date(ctx.clock.now().getTime() - back * DAY_MS).toISOString().slice(0, 10);
    for (const reporter of PROVIDERS) {
      const letters = deliveries.filter(
        (row) => row.sent_on === day && row.state === 'delivered' && String(row.address).endsWith(`@${reporter}`),
      ).length;
      const mails = letters + (day.charCodeAt(9) % 4);
      if (mails === 0) continue;
      const ours = { ip, disposition: 'none' as const, from: name };
      const seen: SeenMails[] = [
        {
          ...ours,
          mails,
          dkim: true,
          spf: true,
          signature: { domain: name, selector, result: 'pass' },
          returnPath: { domain: `bounce.${name}`, result: 'pass' },
        },
        // What its writer mails by hand, from a mailbox of their own.
        ...(reporter === 'kestrel.example'
          ? [
              {
                ip: '198.51.100.12',
                mails: 2,
                disposition: 'none' as const,
                dkim: false,
                spf: true,
                from: name,
                returnPath: { domain: name, result: 'pass' },
              },
            ]
          : []),
        ...elsewhere(reporter, name, day, 'none', letters, selector),
      ];
      const report = aggregateReport({ reporter, domain: name, policy: 'none', day, seen });
      await uploadReport(ctx, newsletter, domain.id, Readable.from([Buffer.from(report)]));
    }
  }
}

/** What its writer noted of days, and the readers they would like to have. */
async function noted(ctx: Context, newsletter: Newsletter, letters: Record<string, unknown>[]): Promise<void> {
  const guest = letters.find((letter) => letter.subject === GUEST);
  if (guest)
    await addNote(ctx, newsletter, {
      day: String(guest.sent_on),
      words: 'The letter with a guest, whose own readers came along',
    });
  const form = new Date(ctx.clock.now().getTime() - 10 * DAY_MS).toISOString().slice(0, 10);
  await addNote(ctx, newsletter, { day: form, words: 'Moved the form above the footer' });
  await setGoal(ctx, newsletter, { goal: 3_000 });
}

/** The blog with its posts and the form's script on it, and the rule that watches its feed. */
async function blog(
  ctx: Context,
  newsletter: Newsletter,
  ids: DemoIds,
  posts: ReturnType<typeof generate>['posts'],
  outside: Outside,
): Promise<void> {
  await put(`${outside.blog}/api/posts`, JSON.stringify(posts));
  const form = await ctx.db
    .selectFrom('forms')
    .select(['public_id', 'definition'])
    .where('id', '=', ids.forms.article)
    .executeTakeFirstOrThrow();
  const [script] = formCodes({ publicId: form.public_id, definition: form.definition, lists: [] }, ctx.config.linkOrigin);
  await fetch(`${outside.blog}/code`, { method: 'POST', body: new URLSearchParams({ code: script?.code ?? '' }) });
  const layout = await ctx.db
    .selectFrom('layouts')
    .select('id')
    .where('newsletter_id', '=', newsletter.id)
    .where('is_default', '=', true)
    .executeTakeFirstOrThrow();
  const now = ctx.clock.now();
  const switchedOn = new Date(now.getTime() - 52 * 86_400_000);
  const [rule, feed] = [newId(), newId()];
  const url = `${outside.blog}/feed.xml`;
  await ctx.db
    .insertInto('feeds')
    .values({
      id: feed,
      newsletter_id: newsletter.id,
      url,
      title: 'Lanternfish',
      read_at: switchedOn,
      next_poll_at: now,
      created_at: switchedOn,
    })
    .execute();
  await ctx.db
    .insertInto('auto_sends')
    .values({
      id: rule,
      newsletter_id: newsletter.id,
      name: 'New posts on Lanternfish',
      settings: JSON.stringify({
        ...usualSettings(newsletter.time_zone),
        quietMinutes: 0,
        choices: { daily: '07:00', weekly: { day: 7, hour: '09:00' } },
      }),
      audience: JSON.stringify(ofList(ids.lists[0]!)),
      sender_id: ids.sender,
      layout_id: layout.id,
      switched_on_at: switchedOn,
      created_at: switchedOn,
    })
    .execute();
  await ctx.db
    .insertInto('auto_send_feeds')
    .values({ auto_send_id: rule, feed_id: feed, since: switchedOn, begun_at: switchedOn })
    .execute();
  const letters = await ctx.db
    .selectFrom('letters')
    .select(['id', 'subject as title'])
    .where('newsletter_id', '=', newsletter.id)
    .execute();
  const items = posts.map((post) => ({ post, id: newId(), at: new Date(post.at) }));
  // Read as the worker reads it, so that nothing looks edited afterwards.
  const reading = await readFeed(ctx, url, { etag: null, lastModified: null }, newsletter.time_zone, ALL_WHOLE);
  const read = new Map(reading.items.map((item) => [itemKey(item), item]));
  await ctx.db
    .insertInto('feed_items')
    .values(
      items.map(({ post, id, at }) => {
        const key = `lanternfish-${post.slug}`;
        const item = read.get(key);
        return {
          id,
          feed_id: feed,
          item_key: key,
          title: post.title,
          link: `${outside.blog}/posts/${post.slug}`,
          source: item?.source ?? '',
          document: item?.document ? JSON.stringify(item.document) : null,
          print: item ? printOf(item) : null,
          published_at: at,
          first_seen_at: at,
          changed_at: at,
        };
      }),
    )
    .execute();
  const mailed = items.filter((one) => one.at > switchedOn).sort((a, b) => a.at.getTime() - b.at.getTime());
  await ctx.db
    .insertInto('rule_posts')
    .values(
      items.map((one) => {
        const place = mailed.indexOf(one) + 1;
        return {
          auto_send_id: rule,
          item_id: one.id,
          state: place ? ('ready' as const) : ('before' as const),
          place: place || null,
          filed_at: one.at,
        };
      }),
    )
    .execute();
  // Who reads by the week and by the day, and until where every rhythm has come.
  await ctx.db
    .insertInto('rule_lanes')
    .values(
      LANES.map((lane) => ({
        auto_send_id: rule,
        lane,
        upto: mailed.length,
        next_at: nextHour(
          laneRhythm({ rhythm: { kind: 'each' }, choices: { daily: '07:00', weekly: { day: 7, hour: '09:00' } } }, lane)!,
          newsletter.time_zone,
          now,
        ),
      })),
    )
    .execute();
  await sql`
    insert into reader_rhythms (auto_send_id, reader_id, newsletter_id, lane, chosen_at)
    select ${rule}::uuid, r.id, r.newsletter_id, case when abs(hashtext(r.id::text)) % 23 = 0 then 'weekly' else 'daily' end, ${switchedOn}
    from readers r where r.newsletter_id = ${newsletter.id}::uuid and r.standing = 'reading' and abs(hashtext(r.id::text)) % 5 = 0`.execute(
    ctx.db,
  );
  for (const [n, one] of mailed.entries()) {
    const letter = letters.find((other) => other.title === one.post.title);
    if (!letter) continue;
    const run = newId();
    await ctx.db
      .insertInto('rule_runs')
      .values({ id: run, auto_send_id: rule, lane: 'usual', at: one.at, upto: n + 1, state: 'done', grouped: true })
      .execute();
    await ctx.db
      .updateTable('letters')
      .set({ auto_send_id: rule, run_id: run, lane: 'usual' })
      .where('id', '=', letter.id)
      .execute();
    await ctx.db
      .insertInto('letter_posts')
      .values({ letter_id: letter.id, auto_send_id: rule, item_id: one.id, place: n + 1 })
      .execute();
  }
}

async function put(url: string, body: string): Promise<void> {
  const response = await fetch(url, { method: 'PUT', body });
  if (!response.ok) throw new Error(`The Backlot did not take ${url}.`);
}

async function providersOf(db: Db, names: string[]): Promise<Map<string, number>> {
  const { rows } = await sql<{
    name: string;
    id: number;
  }>`select name, mail_domain('@' || name) as id from unnest(${[...new Set(names)]}::text[]) as t(name)`.execute(db);
  return new Map(rows.map((row) => [row.name, row.id]));
}

/** Takes a run of delivery numbers for ourselves; returns the number before the first. */
async function reserveIds(db: Db, count: number): Promise<number> {
  const { rows } = await sql<{ base: string }>`
    select setval(seq, nextval(seq) + ${count}) - ${count} as base from (select pg_get_serial_sequence('deliveries', 'id') as seq) s`.execute(
    db,
  );
  return Number(rows[0]?.base ?? 0);
}

/** Inserts many rows of one table through one JSON parameter per thousand; all rows have the keys of the first. */
async function bulk(db: Db, table: string, rows: Record<string, unknown>[]): Promise<void> {
  const columns = Object.keys(rows[0] ?? {}).map((name) => sql.ref(name));
  for (let at = 0; at < rows.length; at += 4_000) {
    await sql`insert into ${sql.table(table)} (${sql.join(columns)}) select ${sql.join(columns)} from json_populate_recordset(null::${sql.table(table)}, ${JSON.stringify(rows.slice(at, at + 4_000))}::json)`.execute(
      db,
    );
  }
}

const AT_ONCE = 20_000;

/** Readers beyond those of the story, at the Backlot's four providers, who came over the newsletter's months and read its first list. */
async function crowd(ctx: Context, slug: string, wanted: number, say: (text: string) => void): Promise<void> {
  const { db } = ctx;
  const newsletter = await db
    .selectFrom('newsletters')
    .select(['id', 'created_at'])
    .where('slug', '=', slug)
    .executeTakeFirstOrThrow();
  const list = await db
    .selectFrom('lists')
    .select('id')
    .where('newsletter_id', '=', newsletter.id)
    .orderBy('position')
    .executeTakeFirstOrThrow();
  const { n } = await db
    .selectFrom('readers')
    .select((eb) => eb.fn.countAll<string>().as('n'))
    .where('newsletter_id', '=', newsletter.id)
    .executeTakeFirstOrThrow();
  if (wanted > Number(n)) say(`Filling up to ${wanted} readers ...`);
  for (let from = Number(n); from < wanted; from += AT_ONCE) {
    const to = Math.min(wanted, from + AT_ONCE);
    await db.transaction().execute(async (trx) => {
      await sql`
        insert into readers (id, newsletter_id, address, address_key, source_class, source_name, created_at)
        select gen_random_uuid(), ${newsletter.id}::uuid, address, address, 'direct', 'direct', at from (
          select 'crowd' || k || '@' || (array['heronmail.example', 'postbird.example', 'kestrel.example', 'fjordbox.example'])[1 + k % 4] as address,
            ${newsletter.created_at}::timestamptz + (${ctx.clock.now()}::timestamptz - ${newsletter.created_at}::timestamptz) * (k::float8 / ${wanted}) as at
          from generate_series(${from + 1}::int, ${to}::int) k) made`.execute(trx);
      await sql`
        insert into memberships (reader_id, list_id, newsletter_id, state, since, joined_at)
        select id, ${list.id}::uuid, newsletter_id, 'reading', created_at, created_at from readers r
        where newsletter_id = ${newsletter.id} and address like 'crowd%' and not exists (select 1 from memberships m where m.reader_id = r.id)`.execute(
        trx,
      );
    });
    await sql`select fold_people(), fold_source(), fold_day()`.execute(db);
  }
  await sql`vacuum analyze readers, memberships`.execute(db);
}
