/*
 * The relay: an SMTP service such as a writer may rent. It wants a name and a password (ottoline, lamp), takes letters after that and hands
 * them on to the mailboxes as they are. A wrong password is refused (535). On its port it speaks clear text and STARTTLS.
 */
import nodemailer from 'nodemailer';
import { generate } from 'selfsigned';
import { SMTPServer } from 'smtp-server';
import { portOf } from '../shell/world';

const USER = 'ottoline';
const PASSWORD = 'lamp';

const onward = nodemailer.createTransport({
  host: '127.0.0.1',
  port: portOf('BACKLOT_SMTP_PORT'),
  secure: false,
  tls: { rejectUnauthorized: false },
  pool: true,
  maxConnections: 4,
});
const certificate = await generate([{ name: 'commonName', value: 'relay.backlot.example' }], { keySize: 2048 });
const server = new SMTPServer({
  name: 'relay.backlot.example',
  key: certificate.private,
  cert: certificate.cert,
  disableReverseLookup: true,
  allowInsecureAuth: true,
  size: 10_000_000,
  logger: false,
  onAuth({ username, password }, _session, callback) {
    if (username === USER && password === PASSWORD) return callback(null, { user: USER });
    callback(Object.assign(new Error('5.7.8 Name or password is not right'), { responseCode: 535 }));
  },
  onData(stream, session, callback) {
    const chunks: Buffer[] = [];
    stream.on('data', (chunk: Buffer) => chunks.push(chunk));
    stream.on('end', () => {
      const from = session.envelope.mailFrom ? session.envelope.mailFrom.address : '';
      onward.sendMail({ envelope: { from, to: session.envelope.rcptTo.map((r) => r.address) }, raw: Buffer.concat(chunks) }).then(
        () => callback(),
        (error: { responseCode?: number; message: string }) =>
          callback(Object.assign(new Error(error.message), { responseCode: error.responseCode ?? 451 })),
      );
    });
  },
});
server.on('error', () => {});
server.listen(portOf('BACKLOT_RELAY_PORT'), '127.0.0.1');
const stop = () => process.exit(0);
process.on('SIGTERM', stop);
process.on('SIGINT', stop);
