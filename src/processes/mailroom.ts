/*
 * mailroom: takes mail that comes back. It needs PostgreSQL and its port; it reports to the log; any number of it may run.
 * It accepts mail to return addresses and report addresses only, acts on notices, complaints, answers and leave requests, keeps reports for the workers to read,
 * and answers 250 after the database has committed. While the database is away it answers 451, so that the other side keeps the message and comes again.
 */

import { generate } from 'selfsigned';
import { SMTPServer, type SMTPServerDataStream, type SMTPServerSession } from 'smtp-server';
import { feedbackOf, sortOf } from '@/core/delivery/came-back';
import { takeFeedback } from '@/server/delivery/feedback';
import { keepReport, reportKind } from '@/server/delivery/reports';
import { isReturnAddress, Returns } from '@/server/delivery/returned';
import { takeApart } from '@/server/delivery/take-apart';
import { openRuntime } from '@/server/runtime';
import { onStop, start } from './lifecycle';

/** A report of a large provider is packed, and no larger than this; a notice may bring our whole letter back. */
const MOST_BYTES = 12_000_000;
/** What a notice says stands before the letter that it brings back. */
const MOST_NOTICE = 1_000_000;
const MOST_CONNECTIONS = 50;

const reply = (code: number, text: string) => Object.assign(new Error(text), { responseCode: code });

/** The first so many bytes of a mail, or null for one that is longer than any: what comes after is read and thrown away, since the other side waits for its end. */
async function readFirst(stream: SMTPServerDataStream, first: number, most: number): Promise<Buffer | null> {
  const kept: Buffer[] = [];
  let size = 0;
  for await (const chunk of stream as AsyncIterable<Buffer>) {
    if (size < first) kept.push(chunk.subarray(0, first - size));
    size += chunk.length;
  }
  return size <= most ? Buffer.concat(kept) : null;
}

const localOf = (address: string) => address.slice(0, address.includes('@') ? address.lastIndexOf('@') : undefined).toLowerCase();

start(async () => {
  const ctx = await openRuntime('mailroom');
  const returns = new Returns(ctx);
  /** Is this address one of ours, with somebody behind it? What is not is refused when it is named, so that nothing vanishes behind a 250. */
  const own = async (address: string): Promise<boolean> => {
    const at = address.lastIndexOf('@');
    const local = address.slice(0, at).toLowerCase();
    const domain = address.slice(at + 1).toLowerCase();
    if (at < 0) return local === 'postmaster';
    if (!isReturnAddress(ctx, local) && reportKind(local) === null) return false;
    if (domain === `in.${ctx.config.mailDomain}`) return true;
    const row = await ctx.db
      .selectFrom('domains')
      .select('id')
      .where('name', '=', domain.replace(/^bounce\./, ''))
      .executeTakeFirst();
    return row !== undefined && domain.startsWith('bounce.');
  };

  const take = async (stream: SMTPServerDataStream, session: SMTPServerSession) => {
    // Only a report is needed to its end; nobody else's mail shall take the memory of one.
    const whole = session.envelope.rcptTo.some(({ address }) => ['dmarc', 'tls'].includes(reportKind(localOf(address)) ?? ''));
    const bytes = await readFirst(stream, whole ? MOST_BYTES : MOST_NOTICE, MOST_BYTES);
    if (bytes === null) throw reply(552, '5.3.4 Too large for a notice');
    const from = session.envelope.mailFrom;
    const apart = await takeApart(bytes.subarray(0, MOST_NOTICE), from === false ? '' : from.address);
    for (const { address } of session.envelope.rcptTo) {
      const local = localOf(address);
      const kind = reportKind(local);
      if (kind) {
        if (!(await keepReport(ctx, local, kind, bytes))) throw reply(452, '4.3.1 Enough for today, please try again tomorrow');
        const complaint = kind === 'complaint' && sortOf(apart.message) === 'feedback';
        if (complaint) await takeFeedback(ctx, feedbackOf(apart.message) ?? '', apart.original);
        ctx.log.info({ kind }, complaint ? 'a complaint was taken' : 'a report was kept');
        continue;
      }
      const taken = await returns.take(address, apart);
      ctx.log.info({ to: address.replace(/^[^@]*/, (local) => `${local.slice(0, 6)}…`), taken }, 'mail came back');
    }
  };

  /** The one that was given, else one of our own making: mail hosts encrypt to whatever stands there (RFC 7435). */
  const certificate = async () => {
    if (ctx.config.tls) return ctx.config.tls;
    const made = await generate([{ name: 'commonName', value: `in.${ctx.config.mailDomain}` }], { keySize: 2048 });
    return { key: made.private, cert: made.cert };
  };
  const server = new SMTPServer({
    name: `in.${ctx.config.mailDomain}`,
    authOptional: true,
    disableReverseLookup: true,
    ...(await certificate()),
    disabledCommands: ['AUTH'],
    size: MOST_BYTES,
    maxClients: MOST_CONNECTIONS,
    logger: false,
    onRcptTo(address, _session, callback) {
      own(address.address).then(
        (yes) => callback(yes ? null : reply(550, '5.1.1 No such mailbox here')),
        () => callback(reply(451, '4.3.0 Not now, please try again')),
      );
    },
    onData(stream, session, callback) {
      take(stream, session).then(
        () => callback(),
        (error) => {
          if (error.responseCode) return callback(error);
          ctx.log.warn({ reason: error.message }, 'a returned mail could not be taken; it will come again');
          callback(reply(451, '4.3.0 Not now, please try again'));
        },
      );
    },
  });
  // Some close their half as soon as they have said everything; the answer still goes to them (RFC 5321 section 4.1.1.10 wants it).
  (server.server as { allowHalfOpen?: boolean }).allowHalfOpen = true;
  server.on('error', (error) => ctx.log.warn({ reason: error.message }, 'mailroom'));
  await new Promise<void>((resolve, reject) => {
    server.once('error', reject);
    server.listen(ctx.config.mailroomPort, ctx.config.listen.mailroom, () => resolve());
  });
  ctx.log.info({ port: ctx.config.mailroomPort }, 'mailroom listens');
  onStop(ctx.log, async () => {
    await new Promise<void>((resolve) => server.close(() => resolve()));
    await ctx.close();
  });
});
