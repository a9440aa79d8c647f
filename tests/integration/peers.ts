import { createServer, type Server, type Socket } from 'node:net';

/** What a made-up mail server does with a line; null hangs up, '' says nothing. */
export type Manners = {
  greeting?: string | null;
  /** Connections beyond this many at once are refused with 421. */
  mostLines?: number;
  /** Mails it takes on one connection before it says 421. */
  mailsALine?: number;
  /** Having said so it does not hang up, but answers 503 to what follows. */
  lingers?: boolean;
  hello?: string;
  /** Answers by the command that a line begins with. */
  say?: (command: string, line: string) => string | null | undefined;
  /** What is said at the end of a mail. */
  end?: () => string | null | Promise<string | null>;
};

/** A mail server in this process with bad manners of one's own choice, at a loopback address of its own. It keeps who got what. */
export class Peer {
  readonly taken: { to: string; id: string }[] = [];
  lines = 0;
  /** Connections that ended without a word of farewell. */
  torn = 0;
  opened = 0;
  mostOpen = 0;
  refused = 0;
  #server: Server | null = null;
  readonly #sockets = new Set<Socket>();
  constructor(
    readonly address: string,
    readonly manners: Manners,
  ) {}

  async open(port: number): Promise<this> {
    const { manners } = this;
    const server = createServer((socket) => {
      this.#sockets.add(socket);
      this.opened += 1;
      socket.on('error', () => {});
      socket.on('close', () => {
        this.#sockets.delete(socket);
        this.lines -= 1;
      });
      this.lines += 1;
      if (manners.mostLines !== undefined && this.lines > manners.mostLines) {
        this.refused += 1;
        return void socket.end('421 4.7.0 Too many connections from you\r\n');
      }
      this.mostOpen = Math.max(this.mostOpen, this.lines);
      if (manners.greeting === null) return;
      socket.write(`${manners.greeting ?? '220 mx'}\r\n`);
      let farewell = false;
      socket.on('close', () => {
        if (!farewell) this.torn += 1;
      });
      let pending = '';
      let data: string[] | null = null;
      let to = '';
      let mails = 0;
      const answer = (text: string | null | undefined) => {
        if (text === null) socket.destroy();
        else if (text) socket.write(`${text}\r\n`);
      };
      const ended = async (head: string[]) => {
        const said = manners.end ? await manners.end() : '250 2.0.0 Taken';
        if (said?.startsWith('250')) {
          mails += 1;
          this.taken.push({ to, id: /^Message-ID: (.*)/m.exec(head.join('\n'))?.[1] ?? '' });
        }
        answer(said);
      };
      socket.on('data', (chunk) => {
        pending += chunk.toString('latin1');
        for (let at = pending.indexOf('\r\n'); at !== -1; at = pending.indexOf('\r\n')) {
          const line = pending.slice(0, at);
          pending = pending.slice(at + 2);
          if (data) {
            if (line === '.') {
              const head = data;
              data = null;
              void ended(head);
            } else if (data.length < 60) data.push(line);
            continue;
          }
          const command = line.split(/[ :]/)[0]!.toUpperCase();
          const own = manners.say?.(command, line);
          if (command === 'MAIL') to = '';
          if (own !== undefined) {
            answer(own);
            continue;
          }
          if (command === 'EHLO') answer(manners.hello ?? '250-mx\r\n250 PIPELINING');
          else if (command === 'MAIL' && manners.mailsALine !== undefined && mails >= manners.mailsALine) {
            answer('421 4.7.0 Enough for one connection');
            if (!manners.lingers) socket.end();
          } else if (manners.lingers && manners.mailsALine === mails && command !== 'QUIT')
            answer('503 5.5.1 Sender not yet given');
          else if (command === 'RCPT') {
            to = /<([^>]*)>/.exec(line)![1]!;
            answer('250 2.1.5 Fine');
          } else if (command === 'DATA' && to === '') answer('503 5.5.1 Nobody to send it to');
          else if (command === 'DATA') {
            data = [];
            answer('354 Go on');
          } else if (command === 'QUIT') {
            farewell = true;
            socket.end('221 Bye\r\n');
          } else answer('250 2.0.0 Fine');
        }
      });
    });
    await new Promise<void>((resolve, reject) => {
      server.once('error', reject);
      server.listen(port, this.address, resolve);
    });
    this.#server = server;
    return this;
  }

  async close(): Promise<void> {
    for (const socket of this.#sockets) socket.destroy();
    await new Promise<void>((resolve) => (this.#server ? this.#server.close(() => resolve()) : resolve()));
  }
}
