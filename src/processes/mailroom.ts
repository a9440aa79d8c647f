/*
 * mailroom: takes mail that comes back. It needs PostgreSQL and its port; it reports to the log; any number of it may run.
 * It accepts mail to return addresses and to the reports address only, acts on bounces and leave requests, and answers 250 after the
 * database has committed. While the database is away it answers 451, so that the other side keeps the message and comes again.
 */
import { simpleParser } from 'mailparser';
import { SMTPServer, type SMTPServerDataStream, type SMTPServerSession } from 'smtp-server';
import { takeReturned } from '@/server/delivery/returned';
import { openRuntime } from '@/server/runtime';
import { onStop, start } from './lifecycle';

const MOST_BYTES = 2_000_000;

const reply = (code: number, text: string) => Object.assign(new Error(text), { responseCode: code });

start(async () => {
  const ctx = await openRuntime('mailroom');
  const own = async (address: string): Promise<boolean> => {
    const domain = address.slice(address.lastIndexOf('@') + 1).toLowerCase();
    if (domain === `in.${ctx.config.mailDomain}`) return true;
    const row = await ctx.db
      .selectFrom('domains')
      .select('id')
      .where('name', '=', domain.replace(/^bounce\./, ''))
      .executeTakeFirst();
    return row !== undefined && domain.startsWith('bounce.');
  };

  const take = async (stream: SMTPServerDataStream, session: SMTPServerSession) => {
    const mail = await simpleParser(stream, { skipImageLinks: true, skipTextToHtml: true, keepDeliveryStatus: true });
    if (stream.sizeExceeded) throw reply(552, '5.3.4 Too large for a notice');
    // Kept apart by the option above, the machine part of a notice comes as an attachment.
    const status =
      mail.attachments.find((part) => part.contentType === 'message/delivery-status')?.content.toString('utf8') ?? null;
    const originalHeader =
      mail.attachments.find((part) => part.contentType === 'text/rfc822-headers')?.content.toString('utf8') ?? null;
    for (const { address } of session.envelope.rcptTo) {
      const taken = await takeReturned(ctx, { to: address, deliveryStatus: status, originalHeader });
      ctx.log.info({ to: address.replace(/^[^@]*/, (local) => `${local.slice(0, 6)}…`), taken }, 'mail came back');
    }
  };

  const server = new SMTPServer({
    name: `in.${ctx.config.mailDomain}`,
    authOptional: true,
    disableReverseLookup: true,
    hideSTARTTLS: true,
    disabledCommands: ['AUTH', 'STARTTLS'],
    size: MOST_BYTES,
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
  server.on('error', (error) => ctx.log.warn({ reason: error.message }, 'mailroom'));
  await new Promise<void>((resolve, reject) => {
    server.once('error', reject);
    server.listen(ctx.config.mailroomPort, '127.0.0.1', () => resolve());
  });
  ctx.log.info({ port: ctx.config.mailroomPort }, 'mailroom listens');
  onStop(ctx.log, async () => {
    await new Promise<void>((resolve) => server.close(() => resolve()));
    await ctx.close();
  });
});
