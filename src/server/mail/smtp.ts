import { connect as connectPlain, type Socket } from 'node:net';
import { connect as connectTls, type TLSSocket } from 'node:tls';
import { type Outcome, readReply } from '@/core/sending/outcome';

export type Envelope = { from: string; to: string };
export type Target = { host: string; address: string; port: number };
export type Manner = {
  heloName: string;
  /** `offered`: encrypted where the other side offers it (other people's mail hosts). `required`: STARTTLS or nothing. `implicit`: TLS from the first byte. */
  tls: 'offered' | 'required' | 'implicit' | 'none';
  /** Is the certificate checked? Not for mail hosts found through MX (the alternative is clear text), always for a relay of one's own. */
  verify: boolean;
  login?: { user: string; password: string };
  timeoutMs?: number;
};
/** At which step a connection failed; the probe of a relay explains each. */
export type LineStep = 'connect' | 'greeting' | 'hello' | 'tls' | 'login' | 'send';

/** Thrown when a connection cannot be opened or breaks: a matter of the way, not of the letter. */
export class LineDown extends Error {
  constructor(
    readonly target: Target,
    readonly step: LineStep,
    reason: string,
  ) {
    super(`${target.host} ${reason}`);
    this.name = 'LineDown';
  }
}

type Reply = { code: number; text: string };
const TIMEOUT_MS = 30_000;
const END_OF_DATA = Buffer.from('\r\n.\r\n');

/** One SMTP connection that takes letter after letter (RFC 5321), its commands pipelined where the other side allows it (RFC 2920). */
export class MailLine {
  #socket: Socket;
  #extensions = new Map<string, string>();
  #waiting: { resolve: (reply: Reply) => void; reject: (error: Error) => void }[] = [];
  #pending = '';
  #lines: string[] = [];
  #broken: LineDown | null = null;
  #step: LineStep = 'connect';
  #timer: NodeJS.Timeout | null = null;

  private constructor(
    private readonly target: Target,
    private readonly manner: Manner,
    socket: Socket,
  ) {
    this.#socket = socket;
  }

  /** Connects, greets, encrypts and signs in as wanted. Rejects with `LineDown`, which names the step that failed. */
  static async open(target: Target, manner: Manner): Promise<MailLine> {
    const tls = { servername: /[a-z]/i.test(target.host) ? target.host : undefined, rejectUnauthorized: manner.verify };
    const plain = { host: target.address, port: target.port, noDelay: true };
    const line = new MailLine(target, manner, manner.tls === 'implicit' ? connectTls({ ...plain, ...tls }) : connectPlain(plain));
    try {
      line.#listen();
      line.#step = manner.tls === 'implicit' ? 'tls' : 'connect';
      await line.#connected(manner.tls === 'implicit' ? 'secureConnect' : 'connect');
      line.#step = 'greeting';
      line.#expect(await line.#reply(), 220);
      await line.#hello();
      if (manner.tls === 'required' || (manner.tls === 'offered' && line.#extensions.has('STARTTLS'))) await line.#encrypt(tls);
      if (manner.login) await line.#signIn(manner.login);
      line.#step = 'send';
      return line;
    } catch (error) {
      line.#socket.destroy();
      throw error instanceof LineDown ? error : line.#down((error as Error).message);
    }
  }

  get encrypted(): boolean {
    return 'encrypted' in this.#socket && (this.#socket as TLSSocket).encrypted;
  }

  /** Hands one message (CRLF lines) over. Resolves with what the server said; rejects with `LineDown` when the connection broke. */
  async send(envelope: Envelope, message: Buffer): Promise<Outcome> {
    if (this.#broken) throw this.#broken;
    const wide = /[^\x20-\x7e]/.test(envelope.from + envelope.to);
    if (wide && !this.#extensions.has('SMTPUTF8')) {
      return { kind: 'refused', response: `553 5.6.7 ${this.target.host} takes no addresses beyond ASCII letters` };
    }
    const commands = [`MAIL FROM:<${envelope.from}>${wide ? ' SMTPUTF8' : ''}`, `RCPT TO:<${envelope.to}>`, 'DATA'];
    const [mail, rcpt, data] = this.#extensions.has('PIPELINING')
      ? await this.#together(commands)
      : await this.#oneByOne(commands);
    if (data?.code === 354) {
      // A server that wants data although it took no recipient is given none (RFC 2920 section 3.1).
      const accepted = mail!.code < 300 && rcpt!.code < 300;
      if (accepted) this.#socket.write(stuffed(message));
      this.#socket.write(accepted && endsWithNewline(message) ? END_OF_DATA.subarray(2) : END_OF_DATA);
      const done = await this.#reply();
      if (accepted) return this.#outcome(done, 'other');
    }
    const refused = [mail, rcpt, data].find((reply) => reply && reply.code >= 400) ?? data!;
    const outcome = this.#outcome(refused, refused === rcpt ? 'RCPT' : 'other');
    await this.#say('RSET');
    return outcome;
  }

  /** Ends the conversation politely; errors no longer matter. */
  close(): void {
    if (!this.#broken) this.#socket.end('QUIT\r\n');
    this.#socket.setTimeout(1_000, () => this.#socket.destroy());
  }

  #outcome(reply: Reply, command: 'RCPT' | 'other'): Outcome {
    // 421 is the server closing the door, whatever was said to it (RFC 5321 section 3.8).
    if (reply.code === 421) throw this.#fail(`said: 421 ${reply.text}`);
    return readReply(reply.code, `${reply.code} ${reply.text}`, command);
  }

  async #oneByOne(commands: string[]): Promise<Reply[]> {
    const replies: Reply[] = [];
    for (const command of commands) {
      const reply = await this.#say(command);
      replies.push(reply);
      if (reply.code >= 400) break;
    }
    return replies;
  }

  #together(commands: string[]): Promise<Reply[]> {
    const replies = commands.map(() => this.#reply());
    this.#socket.write(`${commands.join('\r\n')}\r\n`);
    return Promise.all(replies);
  }

  #say(command: string): Promise<Reply> {
    const reply = this.#reply();
    this.#socket.write(`${command}\r\n`);
    return reply;
  }

  async #hello(): Promise<void> {
    this.#step = 'hello';
    let reply = await this.#say(`EHLO ${this.manner.heloName}`);
    if (reply.code >= 500) reply = await this.#say(`HELO ${this.manner.heloName}`);
    this.#expect(reply, 250);
    this.#extensions = new Map(
      reply.text
        .split('\n')
        .slice(1)
        .map((line) => [line.split(' ')[0]!.toUpperCase(), line.slice(line.indexOf(' ') + 1)]),
    );
  }

  async #encrypt(tls: { servername?: string; rejectUnauthorized: boolean }): Promise<void> {
    this.#step = 'tls';
    if (!this.#extensions.has('STARTTLS')) throw this.#down('offers no encryption (STARTTLS)');
    this.#expect(await this.#say('STARTTLS'), 220);
    this.#socket.removeAllListeners();
    // Whatever came in clear text before the handshake is dropped, so that nobody can slip replies in (RFC 3207 section 4.2).
    this.#pending = '';
    this.#socket = connectTls({ socket: this.#socket, ...tls });
    this.#listen();
    await this.#connected('secureConnect');
    await this.#hello();
  }

  /** AUTH PLAIN, else LOGIN (RFC 4954, RFC 4616). */
  async #signIn({ user, password }: { user: string; password: string }): Promise<void> {
    this.#step = 'login';
    const ways = (this.#extensions.get('AUTH') ?? '').toUpperCase().split(' ');
    const base64 = (text: string) => Buffer.from(text).toString('base64');
    if (ways.includes('PLAIN')) this.#expect(await this.#say(`AUTH PLAIN ${base64(`\0${user}\0${password}`)}`), 235);
    else if (ways.includes('LOGIN')) {
      this.#expect(await this.#say('AUTH LOGIN'), 334);
      this.#expect(await this.#say(base64(user)), 334);
      this.#expect(await this.#say(base64(password)), 235);
    } else throw this.#down('offers no way to sign in that we know (PLAIN or LOGIN)');
  }

  #expect(reply: Reply, code: number): void {
    if (reply.code !== code) throw this.#down(`said: ${reply.code} ${reply.text.split('\n')[0]}`);
  }

  #connected(event: 'connect' | 'secureConnect'): Promise<void> {
    return new Promise((resolve, reject) => {
      this.#waiting.push({ resolve: () => resolve(), reject });
      this.#watch();
      this.#socket.once(event, () => {
        this.#waiting.shift()?.resolve({ code: 0, text: '' });
        this.#watch();
      });
    });
  }

  /** The next reply; replies come in the order of their commands. */
  #reply(): Promise<Reply> {
    if (this.#broken) return Promise.reject(this.#broken);
    return new Promise((resolve, reject) => {
      this.#waiting.push({ resolve, reject });
      if (this.#waiting.length === 1) this.#watch();
    });
  }

  #listen(): void {
    this.#socket.setEncoding('latin1');
    this.#socket.on('data', (chunk: string) => this.#read(chunk));
    this.#socket.on('error', (error: NodeJS.ErrnoException) => this.#fail(reasonOf(error)));
    this.#socket.on('close', () => this.#fail('closed the connection'));
  }

  #read(chunk: string): void {
    this.#pending += chunk;
    for (let end = this.#pending.indexOf('\n'); end !== -1; end = this.#pending.indexOf('\n')) {
      const line = this.#pending.slice(0, end).replace(/\r$/, '');
      this.#pending = this.#pending.slice(end + 1);
      const match = /^(\d{3})([ -]?)(.*)$/.exec(line);
      if (!match) return void this.#fail('does not speak SMTP');
      this.#lines.push(match[3]!);
      if (match[2] === '-') continue;
      const reply = { code: Number(match[1]), text: this.#lines.join('\n') };
      this.#lines = [];
      this.#waiting.shift()?.resolve(reply);
      this.#watch();
    }
    // A reply line is at most 512 bytes (RFC 5321 section 4.5.3.1.5); far more than that is no mail server.
    if (this.#pending.length > 8_192 || this.#lines.length > 200) this.#fail('does not speak SMTP');
  }

  /** Runs the clock while an answer is owed. */
  #watch(): void {
    if (this.#timer) clearTimeout(this.#timer);
    this.#timer = this.#waiting.length
      ? setTimeout(() => this.#fail('did not answer in time'), this.manner.timeoutMs ?? TIMEOUT_MS)
      : null;
  }

  #down(reason: string): LineDown {
    return new LineDown(this.target, this.#step, reason);
  }

  #fail(reason: string): LineDown {
    this.#broken ??= this.#down(reason);
    this.#socket.destroy();
    for (const { reject } of this.#waiting.splice(0)) reject(this.#broken);
    this.#watch();
    return this.#broken;
  }
}

const endsWithNewline = (message: Buffer) => message.at(-2) === 13 && message.at(-1) === 10;

/** A dot at the beginning of a line is doubled (RFC 5321 section 4.5.2). Almost no message has one, so the usual case copies nothing. */
export function stuffed(message: Buffer): Buffer {
  const parts: Buffer[] = [];
  let from = 0;
  if (message[0] === 46) parts.push(Buffer.from('.'));
  for (let at = message.indexOf('\r\n.'); at !== -1; at = message.indexOf('\r\n.', at + 2)) {
    parts.push(message.subarray(from, at + 2), Buffer.from('.'));
    from = at + 2;
  }
  return parts.length ? Buffer.concat([...parts, message.subarray(from)]) : message;
}

const REASONS: Record<string, string> = {
  ECONNREFUSED: 'refused the connection',
  ECONNRESET: 'closed the connection',
  ETIMEDOUT: 'did not answer in time',
  EHOSTUNREACH: 'cannot be reached',
  ENETUNREACH: 'cannot be reached',
  CERT_HAS_EXPIRED: 'has a certificate that has expired',
  DEPTH_ZERO_SELF_SIGNED_CERT: 'has a certificate that it signed itself',
  SELF_SIGNED_CERT_IN_CHAIN: 'has a certificate of an unknown issuer',
  UNABLE_TO_VERIFY_LEAF_SIGNATURE: 'has a certificate of an unknown issuer',
  ERR_TLS_CERT_ALTNAME_INVALID: 'has a certificate for another name',
  ERR_SSL_WRONG_VERSION_NUMBER: 'does not speak TLS on this port',
};
const reasonOf = (error: NodeJS.ErrnoException) => REASONS[error.code ?? ''] ?? `failed (${error.code ?? error.message})`;
