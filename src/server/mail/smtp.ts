import SMTPConnection from 'nodemailer/lib/smtp-connection';
import { type Outcome, readReply } from '@/core/sending/outcome';

export type Envelope = { from: string; to: string };
export type Target = { host: string; address: string; port: number };
type SmtpError = Error & { responseCode?: number; response?: string; command?: string; code?: string };

/** Thrown when a connection cannot be opened or breaks: a matter of the way, not of the letter. */
export class LineDown extends Error {
  constructor(
    readonly target: Target,
    reason: string,
  ) {
    super(`${target.host} ${reason}`);
    this.name = 'LineDown';
  }
}

/** One SMTP connection that takes letter after letter (RFC 5321), encrypted where the other side offers it. */
export class MailLine {
  private constructor(
    private readonly connection: SMTPConnection,
    private readonly target: Target,
  ) {}

  /** Connects and greets. Rejects with `LineDown`. */
  static open(target: Target, heloName: string): Promise<MailLine> {
    const connection = new SMTPConnection({
      host: target.address,
      port: target.port,
      name: heloName,
      // Opportunistic: a receiver's certificate is not ours to judge without DANE or MTA-STS, and clear text is the alternative.
      opportunisticTLS: true,
      tls: { rejectUnauthorized: false, servername: target.host },
      connectionTimeout: 10_000,
      greetingTimeout: 10_000,
      socketTimeout: 60_000,
    });
    return new Promise((resolve, reject) => {
      const fail = (error: SmtpError) => reject(new LineDown(target, reasonOf(error)));
      connection.once('error', fail);
      connection.connect((error) => {
        connection.off('error', fail);
        if (error) return fail(error);
        // Later errors reach the send in flight through its callback; without a listener they would end the process.
        connection.on('error', () => {});
        resolve(new MailLine(connection, target));
      });
    });
  }

  /** Hands one message over. Resolves with what the server said; rejects with `LineDown` when the connection broke. */
  send(envelope: Envelope, message: Buffer): Promise<Outcome> {
    return new Promise((resolve, reject) => {
      const broken = () => reject(new LineDown(this.target, 'closed the connection'));
      this.connection.once('end', broken);
      this.connection.send({ from: envelope.from, to: [envelope.to] }, message, (error, info) => {
        this.connection.off('end', broken);
        if (!error) return resolve(readReply(250, info.response));
        const failure = error as SmtpError;
        if (failure.responseCode === undefined || failure.responseCode === 421)
          return reject(new LineDown(this.target, reasonOf(failure)));
        const outcome = readReply(
          failure.responseCode,
          failure.response ?? '',
          failure.command?.startsWith('RCPT') ? 'RCPT' : 'other',
        );
        // A refused recipient leaves a transaction open on the server.
        this.connection.reset(() => resolve(outcome));
      });
    });
  }

  close(): void {
    this.connection.quit();
  }
}

function reasonOf(error: SmtpError): string {
  if (error.code === 'ETIMEDOUT') return 'did not answer in time';
  if (error.code === 'ESOCKET' || error.code === 'ECONNECTION') return `refused the connection (${error.message})`;
  return error.response ?? error.message;
}
