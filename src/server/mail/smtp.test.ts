import { createServer, type Server, type Socket } from 'node:net';
import fc from 'fast-check';
import { afterEach, describe, expect, it } from 'vitest';
import { PATIENCE } from '@/core/sending/patience';
import { LineDown, MailLine, type Manner, stuffed } from './smtp';

let server: Server | undefined;
afterEach(() => server?.close());

/** A server that answers each line with the next of these; `null` closes the connection. */
async function scripted(
  greeting: string,
  answer: (line: string, socket: Socket) => string | null,
): Promise<{ host: string; address: string; port: number }> {
  server = createServer((socket) => {
    socket.on('error', () => {});
    socket.write(`${greeting}\r\n`);
    let pending = '';
    let data = false;
    socket.on('data', (chunk) => {
      pending += chunk.toString('latin1');
      for (let end = pending.indexOf('\r\n'); end !== -1; end = pending.indexOf('\r\n')) {
        const line = pending.slice(0, end);
        pending = pending.slice(end + 2);
        if (data && line !== '.') continue;
        data = false;
        const said = answer(line, socket);
        if (said === null) return void socket.destroy();
        if (said.startsWith('354')) data = true;
        if (said) socket.write(`${said}\r\n`);
      }
    });
  });
  await new Promise<void>((resolve) => server!.listen(0, '127.0.0.1', resolve));
  return { host: 'mx.kestrel.example', address: '127.0.0.1', port: (server.address() as { port: number }).port };
}
const QUICK = Object.fromEntries(Object.keys(PATIENCE).map((step) => [step, 300]));
const MANNER: Manner = { heloName: 'out.inkset.example', tls: 'offered', verify: false, patience: QUICK };
const ENVELOPE = { from: 'b-1@bounce.lanternfish.example', to: 'mara@kestrel.example' };
const MESSAGE = Buffer.from('Subject: s\r\n\r\nbody\r\n');
const polite =
  (special: Record<string, string | null>, hello = '250-mx\r\n250 PIPELINING') =>
  (line: string) => {
    for (const [start, said] of Object.entries(special)) if (line.startsWith(start)) return said;
    if (line.startsWith('EHLO')) return hello;
    return line === 'DATA' ? '354 Go on' : '250 2.0.0 Fine';
  };

describe('a line to a mail host', () => {
  it.each(['250-mx\r\n250 PIPELINING', '250 mx'])('takes letter after letter (%j)', async (hello) => {
    const line = await MailLine.open(await scripted('220 mx', polite({}, hello)), MANNER);
    expect((await line.send(ENVELOPE, MESSAGE)).kind).toBe('delivered');
    expect((await line.send(ENVELOPE, MESSAGE)).kind).toBe('delivered');
    line.close();
  });

  it('tells a refused mailbox from a refused letter, and goes on with the next', async () => {
    let first = true;
    const answer = polite({});
    const line = await MailLine.open(
      await scripted('220 mx', (text) => {
        if (text.startsWith('RCPT') && first) return '550 5.1.1 No such mailbox';
        if (text === 'DATA' && first) {
          first = false;
          return '503 No recipient';
        }
        return answer(text);
      }),
      MANNER,
    );
    expect(await line.send(ENVELOPE, MESSAGE)).toMatchObject({ kind: 'dead', response: '550 5.1.1 No such mailbox' });
    expect((await line.send(ENVELOPE, MESSAGE)).kind).toBe('delivered');
  });

  it('sends nothing to a server that wants data although it took nobody', async () => {
    const lines: string[] = [];
    const line = await MailLine.open(
      await scripted('220 mx', (text) => {
        lines.push(text);
        return polite({ RCPT: '550 No such user' })(text);
      }),
      MANNER,
    );
    expect((await line.send(ENVELOPE, MESSAGE)).kind).toBe('dead');
    expect(lines.join()).not.toContain('body');
  });

  it.each<[string, Record<string, string | null>, string, string]>([
    ['554 Go away', {}, 'greeting', 'said: 554 Go away'],
    ['220 mx', { EHLO: null }, 'hello', 'closed the connection'],
    ['220 mx', { EHLO: '' }, 'hello', 'did not answer in time'],
    ['SSH-2.0-x', {}, 'greeting', 'does not speak SMTP'],
    ['220 mx', { MAIL: '421 4.3.2 Closing' }, 'send', 'said: 421 4.3.2 Closing'],
    ['220 mx', { DATA: null }, 'send', 'closed the connection'],
  ])('%s %j breaks at %s with a reason', async (greeting, special, step, reason) => {
    const target = await scripted(greeting, polite(special));
    const work = MailLine.open(target, MANNER).then((line) => line.send(ENVELOPE, MESSAGE));
    const error = await work.catch((e: unknown) => e);
    expect(error).toBeInstanceOf(LineDown);
    expect(error).toMatchObject({ step, message: `mx.kestrel.example ${reason}` });
  });

  it('says when nobody listens, when TLS is wanted and not offered, and when the password is wrong', async () => {
    const nobody = { host: 'mx.kestrel.example', address: '127.0.0.1', port: 1 };
    await expect(MailLine.open(nobody, MANNER)).rejects.toMatchObject({
      step: 'connect',
      message: 'mx.kestrel.example refused the connection',
    });
    await expect(MailLine.open(await scripted('220 mx', polite({})), { ...MANNER, tls: 'required' })).rejects.toMatchObject({
      step: 'tls',
      message: expect.stringContaining('offers no encryption'),
    });
    const login = { user: 'ottoline', password: 'wrong' };
    const target = await scripted('220 mx', polite({ AUTH: '535 5.7.8 Not right' }, '250-mx\r\n250 AUTH PLAIN LOGIN'));
    await expect(MailLine.open(target, { ...MANNER, login })).rejects.toMatchObject({
      step: 'login',
      message: expect.stringContaining('535 5.7.8 Not right'),
    });
  });

  it('does not send an address beyond ASCII to a host that cannot take it', async () => {
    const line = await MailLine.open(await scripted('220 mx', polite({})), MANNER);
    expect(await line.send({ ...ENVELOPE, to: 'größe@kestrel.example' }, MESSAGE)).toMatchObject({
      kind: 'refused',
      response: expect.stringContaining('5.6.7'),
    });
  });
});

describe('dots at the beginning of lines', () => {
  it('are doubled, and undone by the other side, whatever the message', () => {
    const piece = fc.constantFrom('.', '\r\n', 'a', '\r\n.', '..');
    fc.assert(
      fc.property(fc.array(piece), (parts) => {
        const text = parts.join('');
        const sent = stuffed(Buffer.from(text)).toString();
        expect(sent.replace(/^\.|(\r\n)\./g, '$1')).toBe(text);
        expect(sent.split('\r\n')).not.toContain('.');
      }),
    );
  });
});
