import { connect as connectPlain, type Socket } from 'node:net';
import { connect as connectTls, rootCertificates, TLSSocket } from 'node:tls';
import { type Outcome, plainReply, readReply } from '@/core/sending/outcome';
import { PATIENCE, type Patience } from '@/core/sending/patience';

export type Envelope = { from: string; to: string };
export type Target = { host: string; address: string; port: number };

export type Manner = {
  heloName: string;
  /** `offered`: encrypted where the other side offers it (other people's mail hosts). `required`: STARTTLS or nothing. `implicit`: TLS from the first byte. */
  tls: 'offered' | 'required' | 'implicit' | 'none';
  /** Is the certificate checked? Not for mail hosts found through MX (the alternative is clear text), always for a relay of one's own. */
  verify: boolean;
  /** Certificate authorities to trust beside those that everybody does, as PEM; '' for none. */
  trustedCa?: string;
  login?: { user: string; password: string };
  patience?: Partial<Patience>;
};
/** At which step a connection failed; the probe of a relay explains each. */
export type LineStep = 'connect' | 'greeting' | 'hello' | 'tls' | 'login' | 'send';

/** Thrown when a connection cannot be opened or breaks: a matter of the way, not of the mail. */
export class LineDown extends Error {
  constructor(
    readonly target: Target,
    readonly step: LineStep,
    reason: string,
    /** The code that was said, 0 for none. */
    readonly code = 0,
    /** The whole mail was sent and the answer did not come: it may have been taken. */
    readonly inDoubt = false,
  ) {
    super(`${target.host} ${reason}`);
    this.name = 'LineDown';
  }
}

type Reply = { code: number; text: string };
const END_OF_DATA = Buffer.from('\r\n.\r\n');

/** One SMTP connection that takes mail after mail (RFC 5321), its commands pipelined where the other side allows it (RFC 2920). */
export class MailLine {
  #socket: Socket;
  #extensions = new Map<string, string>();
  #waiting: { resolve: (reply: Reply) => void; reject: (error: Error) => void; ms: number }[] = [];
  #pending = '';
  #lines: string[] = [];
  #broken: LineDown | null = null;
  #step: LineStep = 'connect';
  #timer: NodeJS.Timeout | null = null;
  #inDoubt = false;
  readonly #patience: Patience;
  /** How many mails it took. */
  taken = 0;
  /** Since when an answer is owed, by performance.now(); 0 while none is. */
  waitingSince = 0;

  private constructor(
    readonly target: Target,
    private readonly manner: Manner,
    socket: Socket,
  ) {
    this.#socket = socket;
    this.#patience = { ...PATIENCE, ...manner.patience };
  }

  /** Connects, greets, encrypts and signs in as wanted. Rejects with `LineDown`, which names the step that failed. */
  static async open(target: Target, manner: Manner): Promise<MailLine> {
    const tls = {
      servername: /[a-z]/i.test(target.host) ? target.host : undefined,
      rejectUnauthorized: manner.verify,
      ...(manner.trustedCa ? { ca: [...rootCertificates, manner.trustedCa] } : {}),
    };
    const plain = { host: target.address, port: target.port, noDelay: true };
    const line = new MailLine(target, manner, manner.tls === 'implicit' ? connectTls({ ...plain, ...tls }) : connectPlain(plain));
    try {
      line.#listen();
      line.#step = manner.tls === 'implicit' ? 'tls' : 'connect';
      await line.#connected(manner.tls === 'implicit' ? 'secureConnect' : 'connect', line.#patience.connect);
      line.#step = 'greeting';
      line.#expect(await line.#reply(line.#patience.greeting), 220);
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

  /** Is what goes over it encrypted? */
  get encrypted(): boolean {
    return this.#socket instanceof TLSSocket;
  }

  /** Can it take another mail? */
  get usable(): boolean {
    return this.#broken === null;
  }

  /**
   * Hands one mail (CRLF lines) over. Resolves with what the server said of it, also when it hung up right afterwards; rejects with `LineDown` when
   * the connection broke before anything definite was said. `ready` is waited for before the body goes out: the result of the mail before is written.
   */
  async send(envelope: Envelope, message: Buffer, ready: Promise<unknown> = Promise.resolve()): Promise<Outcome> {
    if (this.#broken) throw this.#broken;
    const wide = /[^\x20-\x7e]/.test(envelope.from + envelope.to);
    if (wide && !this.#extensions.has('SMTPUTF8'))
      return {
        kind: 'refused',
        response: `553 5.6.7 ${this.target.host} takes no addresses beyond ASCII letters`,
        reason: 'policy',
        evidence: 0,
      };
    const most = Number(this.#extensions.get('SIZE') ?? 0);
    if (most > 0 && message.length > most)
      return {
        kind: 'refused',
        response: `552 5.3.4 ${this.target.host} takes at most ${most} bytes, this mail has ${message.length}`,
        reason: 'policy',
        evidence: 0,
      };
    const size = this.#extensions.has('SIZE') ? ` SIZE=${message.length}` : '';
    const original = this.#extensions.has('DSN') && !wide ? ` ORCPT=rfc822;${xtext(envelope.to)}` : '';
    const { mail, recipient, data } = this.#patience;
    const said = await this.#envelope([
      [`MAIL FROM:<${envelope.from}>${size}${wide ? ' SMTPUTF8' : ''}`, mail],
      [`RCPT TO:<${envelope.to}>${original}`, recipient],
      ['DATA', data],
    ]);
    const [from, to, go] = said.replies;
    const accepted = from !== undefined && to !== undefined && from.code < 300 && to.code < 300;
    if (go?.code === 354 && !said.error) {
      if (accepted) await ready;
      if (this.#broken) throw this.#broken;
      // A server that wants data although it took no recipient is given none (RFC 2920 section 3.1).
      if (accepted) await this.#write(stuffed(message));
      this.#inDoubt = accepted;
      this.#socket.write(accepted && endsWithNewline(message) ? END_OF_DATA.subarray(2) : END_OF_DATA);
      const done = await this.#reply(this.#patience.end);
      this.#inDoubt = false;
      if (accepted) {
        const outcome = this.#outcome(done, 'other');
        if (outcome.kind === 'delivered') this.taken += 1;
        return outcome;
      }
    }
    // The first refusal is the one that counts: commands that follow a refused one in the same packet are refused for that alone (RFC 2920 section 3.1).
    const refused = said.replies.find((reply) => reply.code >= 400);
    if (refused) {
      const outcome = this.#outcome(refused, refused === to ? 'RCPT' : 'other');
      if (!said.error && !said.replies.some((reply) => reply.code === 421)) await this.#say('RSET', mail).catch(() => {});
      else this.#fail('closed the connection');
      return outcome;
    }
    throw said.error ?? this.#fail('answered what makes no sense here');
  }

  /** Ends the conversation politely; errors no longer matter. */
  close(): void {
    if (!this.#broken) {
      this.#broken = this.#down('was closed by us');
      this.#socket.end('QUIT\r\n');
    }
    this.#socket.setTimeout(1_000, () => this.#socket.destroy());
  }

  #outcome(reply: Reply, command: 'RCPT' | 'other'): Outcome {
    // 421 is the server closing the door, whatever was said to it (RFC 5321 section 3.8).
    if (reply.code === 421) throw this.#fail(`said: 421 ${reply.text}`, 421);
    return readReply(reply.code, `${reply.code} ${reply.text}`, command);
  }

  /** Says the commands of an envelope, together or one by one; the answers that came, and what broke the line where not all did. */
  async #envelope(commands: [string, number][]): Promise<{ replies: Reply[]; error?: LineDown }> {
    const replies: Reply[] = [];
    const pipelined = this.#extensions.has('PIPELINING');
    const owed = pipelined ? commands.map(([, ms]) => this.#reply(ms)) : [];
    // Their errors are looked at one by one below.
    for (const one of owed) one.catch(() => {});
    if (pipelined) this.#socket.write(`${commands.map(([command]) => command).join('\r\n')}\r\n`);
    try {
      for (const [n, [command, ms]] of commands.entries()) {
        const reply = await (owed[n] ?? this.#say(command, ms));
        replies.push(reply);
        if (!pipelined && reply.code >= 400) break;
      }
    } catch (error) {
      return { replies, error: error as LineDown };
    }
    return { replies };
  }

  /** Writes a body; a peer that does not read it is waited for as long as for a block of data. */
  #write(bytes: Buffer): Promise<void> {
    if (this.#socket.write(bytes)) return Promise.resolve();
    return new Promise((resolve, reject) => {
      const timer = setTimeout(() => reject(this.#fail('does not take what it is sent')), this.#patience.block);
      const done = () => {
        clearTimeout(timer);
        this.#socket.off('drain', done);
        this.#socket.off('close', done);
        if (this.#broken) reject(this.#broken);
        else resolve();
      };
      this.#socket.once('drain', done);
      this.#socket.once('close', done);
    });
  }

  #say(command: string, ms: number): Promise<Reply> {
    const reply = this.#reply(ms);
    this.#socket.write(`${command}\r\n`);
    return reply;
  }

  async #hello(): Promise<void> {
    this.#step = 'hello';
    let reply = await this.#say(`EHLO ${this.manner.heloName}`, this.#patience.hello);
    if (reply.code >= 500) reply = await this.#say(`HELO ${this.manner.heloName}`, this.#patience.hello);
    this.#expect(reply, 250);
    this.#extensions = new Map(
      reply.text
        .split('\n')
        .slice(1)
        .map((line) => [line.split(/[ =]/)[0]!.toUpperCase(), line.slice(line.search(/[ =]/) + 1)]),
    );
  }

  async #encrypt(tls: { servername?: string; rejectUnauthorized: boolean; ca?: string[] }): Promise<void> {
    this.#step = 'tls';
    if (!this.#extensions.has('STARTTLS')) throw this.#down('offers no encryption (STARTTLS)');
    this.#expect(await this.#say('STARTTLS', this.#patience.tls), 220);
    this.#socket.removeAllListeners();
    // Whatever came in clear text before the handshake is dropped, so that nobody can slip replies in (RFC 3207 section 4.2).
    this.#pending = '';
    this.#socket = connectTls({ socket: this.#socket, ...tls });
    this.#listen();
    await this.#connected('secureConnect', this.#patience.tls);
    await this.#hello();
  }

  /** AUTH PLAIN, else LOGIN (RFC 4954, RFC 4616). */
  async #signIn({ user, password }: { user: string; password: string }): Promise<void> {
    this.#step = 'login';
    const ms = this.#patience.login;
    const ways = (this.#extensions.get('AUTH') ?? '').toUpperCase().split(' ');
    const base64 = (text: string) => Buffer.from(text).toString('base64');
    if (ways.includes('PLAIN')) this.#expect(await this.#say(`AUTH PLAIN ${base64(`\0${user}\0${password}`)}`, ms), 235);
    else if (ways.includes('LOGIN')) {
      this.#expect(await this.#say('AUTH LOGIN', ms), 334);
      this.#expect(await this.#say(base64(user), ms), 334);
      this.#expect(await this.#say(base64(password), ms), 235);
    } else throw this.#down('offers no way to sign in that we know (PLAIN or LOGIN)');
  }

  #expect(reply: Reply, code: number): void {
    if (reply.code !== code) throw this.#down(`said: ${reply.code} ${reply.text.split('\n')[0]}`, reply.code);
  }

  #connected(event: 'connect' | 'secureConnect', ms: number): Promise<void> {
    return new Promise((resolve, reject) => {
      this.#waiting.push({ resolve: () => resolve(), reject, ms });
      this.#watch();
      this.#socket.once(event, () => {
        this.#waiting.shift()?.resolve({ code: 0, text: '' });
        this.#watch();
      });
    });
  }

  /** The next reply; replies come in the order of their commands. */
  #reply(ms: number): Promise<Reply> {
    if (this.#broken) return Promise.reject(this.#broken);
    return new Promise((resolve, reject) => {
      this.#waiting.push({ resolve, reject, ms });
      if (this.#waiting.length === 1) this.#watch();
    });
  }

  #listen(): void {
    this.#socket.setEncoding('latin1');
    this.#socket.on('data', (chunk: string) => this.#read(chunk));
    this.#socket.on('error', (error: NodeJS.ErrnoException) => this.#fail(reasonOf(error)));
    this.#socket.on('end', () => this.#fail('closed the connection'));
    this.#socket.on('close', () => this.#fail('closed the connection'));
  }

  #read(chunk: string): void {
    this.#pending += chunk;
    for (let end = this.#pending.indexOf('\n'); end !== -1; end = this.#pending.indexOf('\n')) {
      const line = this.#pending.slice(0, end).replace(/\r$/, '');
      this.#pending = this.#pending.slice(end + 1);
      const match = /^(\d{3})([ -]?)(.*)$/s.exec(line);
      if (!match) return void this.#fail('does not speak SMTP');
      // What a server says becomes plain text here, once, whatever it is made of.
      this.#lines.push(plainReply(Buffer.from(match[3]!, 'latin1').toString('utf8')));
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
    const [first] = this.#waiting;
    this.waitingSince = first ? performance.now() : 0;
    this.#timer = first ? setTimeout(() => this.#fail('did not answer in time'), first.ms) : null;
  }

  #down(reason: string, code = 0): LineDown {
    return new LineDown(this.target, this.#step, plainReply(reason), code, this.#inDoubt);
  }

  #fail(reason: string, code = 0): LineDown {
    this.#broken ??= this.#down(reason, code);
    this.#socket.destroy();
    for (const { reject } of this.#waiting.splice(0)) reject(this.#broken);
    this.#watch();
    return this.#broken;
  }
}

const endsWithNewline = (message: Buffer) => message.at(-2) === 13 && message.at(-1) === 10;

/** An address as a parameter may hold it (RFC 3461 section 4). */
const xtext = (text: string) =>
  text.replace(/[+=\x00-\x20]/g, (c) => `+${c.charCodeAt(0).toString(16).toUpperCase().padStart(2, '0')}`);

/** A dot at the beginning of a line is doubled (RFC 5321 section 4.5.2). Almost no mail has one, so the usual case copies nothing. */
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
  EPIPE: 'closed the connection',
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
