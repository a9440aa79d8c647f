import { randomBytes } from 'node:crypto';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { simpleParser } from 'mailparser';
import type pg from 'pg';
import pino from 'pino';
import { SMTPServer } from 'smtp-server';
import { inject } from 'vitest';
import type { DnsAnswer, Lookup, RecordType } from '@/core/senders/dns';
import { type Audience, ofList } from '@/core/sending/audience';
import type { Departure } from '@/core/sending/departure';
import type { Node } from '@/core/writing/document';
import { FeedReader } from '@/server/autosend/feed-reader';
import { ManualClock } from '@/server/clock/clock';
import { readConfig } from '@/server/config';
import type { Context, Newsletter } from '@/server/context';
import { connect } from '@/server/db/connection';
import { type Authority, LookupFailed, type Resolver } from '@/server/dns/resolver';
import { createForm, formOf, publicForm } from '@/server/forms/forms';
import { SignUps } from '@/server/forms/sign-ups';
import { newId } from '@/server/ids';
import { type JobName, jobs } from '@/server/jobs/jobs';
import { postOffice } from '@/server/jobs/post-office';
import { beat, foldCounts, housekeeping, releaseClaims, tick } from '@/server/jobs/tick';
import type { PostOffice } from '@/server/mail/post-office';
import type { PublicHandler } from '@/server/public/request';
import { lastLook, letGo } from '@/server/sending/departing';
import { scheduleLetter } from '@/server/sending/letters';
import { createNewsletter } from '@/server/site/founding';
import { admin, SETTINGS, type Server, START } from './template';

export const MINUTE = 60_000;
export const DAY = 86_400_000;

/** Sends a form in as a browser does, each time from another network unless one is given. */
export const formPoster =
  (handle: PublicHandler) =>
  (
    publicId: string,
    fields: Record<string, string>,
    { from = network(), accept = 'application/json' }: { from?: string; accept?: string } = {},
  ): Promise<Response> =>
    handle(
      new Request(`https://go.inkset.example/e/form/${publicId}`, {
        method: 'POST',
        headers: { accept, 'x-forwarded-for': from },
        body: new URLSearchParams(fields),
      }),
    );
let networks = 0;
export const network = () => `192.0.2.${++networks % 250}.${networks}`;

type Taken = { from: string; to: string; source: string; encrypted: boolean };

/** A mailbox provider's SMTP server in this process. `answers` gives an address another reply than "taken". */
export class MailSink {
  readonly taken: Taken[] = [];
  readonly answers = new Map<string, [code: number, text: string]>();
  /** Waited for before a mail that was taken is answered. */
  onTaken: ((mail: Taken) => Promise<void>) | null = null;
  #server: SMTPServer | null = null;
  port = 0;

  /** With a certificate it offers STARTTLS. */
  async open(port = 0, address = '127.0.0.1', certificate?: { key: string; cert: string }): Promise<this> {
    const server = new SMTPServer({
      ...certificate,
      authOptional: true,
      disabledCommands: certificate ? ['AUTH'] : ['STARTTLS', 'AUTH'],
      disableReverseLookup: true,
      onRcptTo: ({ address }, _session, callback) => {
        const answer = this.answers.get(address);
        callback(answer ? Object.assign(new Error(answer[1]), { responseCode: answer[0] }) : null);
      },
      onData: (stream, session, callback) => {
        const chunks: Buffer[] = [];
        stream.on('data', (chunk: Buffer) => chunks.push(chunk));
        stream.on('end', () => {
          const from = session.envelope.mailFrom ? session.envelope.mailFrom.address : '';
          for (const { address } of session.envelope.rcptTo)
            this.taken.push({ from, to: address, source: Buffer.concat(chunks).toString('latin1'), encrypted: session.secure });
          const told = this.onTaken && this.taken.length ? this.onTaken(this.taken.at(-1)!) : Promise.resolve();
          void told.then(() => callback());
        });
      },
    });
    server.on('error', () => {});
    await new Promise<void>((resolve) => server.listen(port, address, resolve));
    this.#server = server;
    this.port = (server.server.address() as { port: number }).port;
    return this;
  }
  async close(): Promise<void> {
    await new Promise<void>((resolve) => (this.#server ? this.#server.close(resolve) : resolve()));
    this.#server = null;
  }
  to(address: string): Taken[] {
    return this.taken.filter((mail) => mail.to === address);
  }
}

/** DNS as tests set it: TXT and CNAME values by name; every domain's mail goes to the sink unless it is in `noMail`. */
export class SetResolver implements Resolver {
  readonly records = new Map<string, string[]>([
    ['spf.inkset.example', ['v=spf1 ip4:198.51.100.5 -all']],
    ['in.inkset.example', ['v=spf1 include:spf.inkset.example -all']],
  ]);
  /** What the resolver still remembers, where that is not what the name servers say. */
  readonly old = new Map<string, string[]>();
  readonly noMail = new Map<string, 'null' | 'ENOTFOUND' | 'EUNANSWERED'>();
  silent = false;

  readonly #say = (name: string, type: RecordType, from: Map<string, string[]>): DnsAnswer => {
    if (this.silent) return { kind: 'unanswered', fault: 'timeout' };
    const values = from.get(name) ?? this.records.get(name);
    const fits =
      values &&
      (type === 'TXT'
        ? /=/.test(values[0] ?? '')
        : type === 'CNAME'
          ? !/[= ]/.test(values[0] ?? '')
          : type === 'MX'
            ? /^\d+ /.test(values[0] ?? '')
            : type === 'PTR');
    return fits ? { kind: 'found', values, ttl: 2400, aliases: [] } : { kind: 'none', exists: values !== undefined, ttl: 60 };
  };
  readonly look: Lookup = async (name, type) => this.#say(name, type, this.old);

  async authority(domain: string): Promise<Authority> {
    return {
      zone: domain,
      servers: ['ns1.test', 'ns2.test'],
      look: async (name, type) => this.#say(name, type, this.records),
      disagreed: () => [],
    };
  }
  /** Mail hosts of domains that do not have the sink's. */
  readonly hosts = new Map<string, { host: string; rank: number }[]>();
  /** Addresses of hosts that do not have the sink's. */
  readonly at = new Map<string, string[] | 'unanswered'>();
  /** Domains whose name servers say nothing until `speak` is called. */
  readonly mute = new Set<string>();
  speak: () => void = () => {};
  readonly #spoken = new Promise<void>((resolve) => {
    this.speak = resolve;
  });
  async mailHosts(domain: string) {
    if (this.mute.has(domain)) await this.#spoken;
    const code = this.noMail.get(domain);
    if (code === 'null') return [];
    if (code) throw new LookupFailed(code, code);
    return this.hosts.get(domain) ?? [{ host: `mx.${domain}`, rank: 10 }];
  }
  async addresses(host: string) {
    const own = this.at.get(host);
    if (own === 'unanswered') throw new LookupFailed('EUNANSWERED', host);
    return own ?? ['127.0.0.1'];
  }
}

/** A context over a database of its own, with a clock that stands still, a sink for mail and a resolver that is told what to say. */
export class TestWorld {
  private constructor(
    readonly ctx: Context,
    readonly pool: pg.Pool,
    readonly clock: ManualClock,
    readonly dns: SetResolver,
    readonly mail: MailSink,
    private readonly name: string,
    readonly server: Server,
  ) {
    this.signUps = new SignUps(ctx);
  }

  static async open(server = inject('server')): Promise<TestWorld> {
    const name = `copy_${randomBytes(6).toString('hex')}`;
    // Copied as files: through the log it takes twice as long.
    await admin(server, `create database ${name} template template_inkset owner inkset strategy file_copy`);
    const mail = await new MailSink().open();
    const config = readConfig({
      ...SETTINGS,
      INKSET_DATABASE_URL: `${server.app}/${name}`,
      INKSET_MX_PORT: String(mail.port),
      INKSET_ALLOW_LOOPBACK: 'true',
      INKSET_FEED_SECONDS: '60',
      INKSET_SENDING_ADDRESSES: '198.51.100.5',
      INKSET_MEDIA_DIR: join(tmpdir(), `inkset-media-${name}`),
      INKSET_TEST_MAILBOX: 'verdicts@heronmail.example',
    });
    const clock = new ManualClock(START);
    const dns = new SetResolver();
    const { db, pool } = connect(config.databaseUrl, () => {}, 12);
    return new TestWorld(
      { db, clock, config, log: pino({ level: process.env.INKSET_LOG_LEVEL ?? 'silent' }), resolver: dns },
      pool,
      clock,
      dns,
      mail,
      name,
      server,
    );
  }

  async close(): Promise<void> {
    await this.ctx.db.destroy();
    await this.mail.close();
    await admin(this.server, `drop database ${this.name} with (force)`);
  }

  readonly worker = newId();
  readonly signUps: SignUps;
  #office: PostOffice | null = null;
  #feeds: FeedReader | null = null;
  /** The worker's reader of feeds. */
  get feeds(): FeedReader {
    this.#feeds ??= new FeedReader(this.ctx);
    return this.#feeds;
  }
  /** The worker's post office. */
  get office(): PostOffice {
    this.#office ??= postOffice(this.ctx, this.worker);
    return this.#office;
  }

  /** Does what is due now, as the worker process would, until nothing is due. */
  async work(silentSeconds = 10): Promise<void> {
    await housekeeping(this.ctx);
    const tasks = jobs(this.ctx);
    for (let found = true; found; ) {
      const due: [JobName, object][] = [];
      await beat(this.ctx, this.worker);
      await releaseClaims(this.ctx, silentSeconds);
      await tick(this.ctx, async (name, payload) => due.push([name, payload]));
      for (const [name, payload] of due) await tasks[name](payload, undefined as never);
      const posts = await this.feeds.settle();
      found = (await this.office.settle()) > 0 || due.length > 0 || posts > 0;
      await foldCounts(this.ctx);
    }
  }

  /** A context whose connection to the database breaks after so many statements, as with a process that is killed. */
  brokenAfter(statements: number): Context {
    let left = statements;
    const db = this.ctx.db.withPlugin({
      transformQuery: ({ node }) => {
        left -= 1;
        if (left < 0) throw Object.assign(new Error('Connection terminated'), { code: '57P01' });
        return node;
      },
      transformResult: async ({ result }) => result,
    });
    return { ...this.ctx, db };
  }

  /** A writer with a newsletter of their own. */
  async newsletter(name = 'Lanternfish Letters'): Promise<Newsletter & { owner: string }> {
    const owner = newId();
    await this.ctx.db
      .insertInto('user')
      .values({ id: owner, name: 'Ottoline Vance', email: `${owner}@postbird.example`, emailVerified: true })
      .execute();
    const newsletter = await createNewsletter(this.ctx, owner, {
      name,
      description: '',
      postalAddress: 'PO Box 600, Lisbon',
      timeZone: 'Europe/Lisbon',
    });
    return { ...newsletter, owner };
  }

  /** A confirmed sender at a domain whose records are right. */
  async sender(
    newsletter: Newsletter,
    domain = 'lanternfish.example',
  ): Promise<{ senderId: string; domainId: string; publicKey: string }> {
    // The installation's own pair: making one takes longer than most tests.
    const { public_key: publicKey, private_key: sealed } = await this.ctx.db
      .selectFrom('installation')
      .select(['public_key', 'private_key'])
      .executeTakeFirstOrThrow();
    const [senderId, domainId] = [newId(), newId()];
    const now = this.clock.now();
    const of = { newsletter_id: newsletter.id, created_at: now };
    await this.ctx.db
      .insertInto('senders')
      .values({ id: senderId, ...of, name: 'Ottoline Vance', address: `letters@${domain}`, domain, confirmed_at: now })
      .execute();
    await this.ctx.db
      .insertInto('domains')
      .values({
        id: domainId,
        ...of,
        name: domain,
        reports_token: `d-${newId()}`,
        state: 'authenticated',
        checked_at: new Date(now.getTime() + 400 * DAY),
        next_check_at: new Date(now.getTime() + 400 * DAY),
      })
      .execute();
    await this.ctx.db
      .insertInto('domain_keys')
      .values({
        id: newId(),
        domain_id: domainId,
        selector: 'ink1',
        algorithm: 'rsa',
        role: 'active',
        public_key: publicKey,
        private_key: sealed,
        created_at: now,
      })
      .execute();
    this.dns.records.set(`ink1._domainkey.${domain}`, [`v=DKIM1; k=rsa; p=${publicKey}`]);
    return { senderId, domainId, publicKey };
  }

  /** A letter of a post of its own, due now, to the newsletter's first list. */
  /** Looks at a letter and lets it go, as its writer does: at an hour of the newsletter's clock, or as `more` has it. */
  async lets(newsletter: Newsletter, id: string, local: string, more: Partial<Departure> = {}): Promise<{ due: Date }> {
    const departure = {
      when: 'at',
      local,
      zone: newsletter.time_zone,
      fold: 'first',
      pace: { kind: 'at once' },
      ...more,
    } satisfies Departure;
    const { stamp } = await lastLook(this.ctx, newsletter, id, departure);
    return letGo(this.ctx, newsletter, { name: 'Ottoline Vance' }, id, { departure, stamp });
  }

  async letter(
    newsletter: Newsletter,
    senderId: string,
    more: { subject?: string; nodes?: Node[]; audience?: Audience; dueAt?: Date } = {},
  ): Promise<string> {
    const subject = more.subject ?? 'Why the anglerfish waits';
    const postId = newId();
    const now = this.clock.now();
    await this.ctx.db
      .insertInto('posts')
      .values({
        id: postId,
        newsletter_id: newsletter.id,
        slug: postId,
        title: subject,
        document: JSON.stringify({ version: 1, nodes: more.nodes ?? [] }),
        link: 'https://lanternfish.example/a?b=1&c=2',
        created_at: now,
        updated_at: now,
      })
      .execute();
    return scheduleLetter(this.ctx, this.ctx.db, {
      newsletterId: newsletter.id,
      postId,
      autoSendId: null,
      layoutId: null,
      audience: more.audience ?? ofList(await this.list(newsletter)),
      senderId,
      subject,
      previewLine: 'Patience',
      dueAt: more.dueAt ?? now,
    });
  }

  async list(newsletter: Newsletter): Promise<string> {
    const { id } = await this.ctx.db
      .selectFrom('lists')
      .select('id')
      .where('newsletter_id', '=', newsletter.id)
      .orderBy('position')
      .executeTakeFirstOrThrow();
    return id;
  }

  /** The form of the newsletter's own sign-up page. */
  async form(newsletter: Newsletter) {
    const row = await this.ctx.db
      .selectFrom('forms')
      .select('public_id')
      .where('newsletter_id', '=', newsletter.id)
      .where('hosted', '=', true)
      .executeTakeFirstOrThrow();
    return (await publicForm(this.ctx, row.public_id))!;
  }

  /** Another form of the newsletter. */
  async newForm(newsletter: Newsletter): Promise<{ id: string; publicId: string }> {
    const { id } = await createForm(this.ctx, newsletter, { name: `Form ${newId()}` });
    return { id, publicId: (await formOf(this.ctx, newsletter, id)).publicId };
  }

  /** People reading a newsletter's first list, without the way they came. */
  async readers(newsletter: Newsletter, addresses: string[], more: { source_form_id?: string } = {}): Promise<string[]> {
    const listId = await this.list(newsletter);
    const now = this.clock.now();
    const ids = addresses.map(() => newId());
    await this.ctx.db
      .insertInto('readers')
      .values(
        addresses.map((address, n) => ({
          id: ids[n]!,
          newsletter_id: newsletter.id,
          address,
          address_key: address.toLowerCase(),
          created_at: now,
          ...more,
        })),
      )
      .execute();
    await this.ctx.db
      .insertInto('memberships')
      .values(
        ids.map((id) => ({
          reader_id: id,
          list_id: listId,
          newsletter_id: newsletter.id,
          state: 'reading' as const,
          since: now,
          joined_at: now,
        })),
      )
      .execute();
    return ids;
  }

  /** The first address after these words in the mails to somebody. */
  async linkIn(to: string, part: string): Promise<string> {
    const mail = this.mail.to(to).at(-1);
    if (!mail) throw new Error(`no mail to ${to}`);
    const { text = '' } = await simpleParser(mail.source);
    const found = new RegExp(`https?://\\S*${part}\\S*`).exec(text)?.[0];
    if (!found) throw new Error(`no link with ${part} in ${text}`);
    return found;
  }
}
