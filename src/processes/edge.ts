/*
 * edge: answers the hot public paths (form, script, confirm, open, click, leave) on a bare Node listener; the link host points here.
 * It needs PostgreSQL; it reports to the log; any number of it may run. The paths are the same functions that Next mounts at /e.
 * While the database is away, links and pixels still work and their marks wait in memory; forms say that it did not work.
 */
import { createServer, type IncomingMessage, type ServerResponse } from 'node:http';
import { clientOf } from '@/core/network';
import { MarkBook } from '@/server/delivery/marks';
import { FormBook } from '@/server/forms/counts';
import { MOST_BYTES } from '@/server/public/request';
import { publicRoutes } from '@/server/public/router';
import { openRuntime } from '@/server/runtime';
import { onStop, start } from './lifecycle';

/** What is read and thrown away of a body that is too long, so that its sender is there to hear the answer. */
const PATIENCE_BYTES = 8_000_000;

/** A body, or as much of it as shows that it is too long. Read by its events, which is cheaper than as an iterator. */
function readBody(incoming: IncomingMessage): Promise<Buffer> {
  const kept: Buffer[] = [];
  let size = 0;
  return new Promise((resolve, reject) => {
    const done = () => resolve(kept.length === 1 ? kept[0]! : Buffer.concat(kept));
    incoming.on('data', (chunk: Buffer) => {
      if (size <= MOST_BYTES) kept.push(chunk);
      size += chunk.length;
      if (size <= PATIENCE_BYTES) return;
      incoming.pause();
      done();
    });
    incoming.once('end', done);
    incoming.once('error', reject);
  });
}

start(async () => {
  const ctx = await openRuntime('edge', undefined, 20, { prepares: true });
  const marks = new MarkBook(ctx);
  const book = new FormBook(ctx);
  const handle = publicRoutes(ctx, marks, book);

  const server = createServer((incoming, outgoing) => {
    void answer(incoming, outgoing).catch((error) => {
      ctx.log.error({ err: error }, 'a request failed');
      if (!outgoing.headersSent) outgoing.writeHead(500);
      outgoing.end();
    });
  });

  async function answer(incoming: IncomingMessage, outgoing: ServerResponse): Promise<void> {
    const path = incoming.url ?? '/';
    if (path === '/healthz') return void outgoing.end('ok');
    if (!URL.canParse(path, ctx.config.linkOrigin)) return void outgoing.writeHead(400, { connection: 'close' }).end();
    const hasBody = incoming.method !== 'GET' && incoming.method !== 'HEAD';
    const sent = hasBody ? await readBody(incoming) : Buffer.alloc(0);
    const header = (name: string) => {
      const value = incoming.headers[name];
      return value === undefined ? null : String(value);
    };
    const { status, headers, body } = await handle({
      method: incoming.method ?? 'GET',
      url: new URL(path, ctx.config.linkOrigin),
      headers: { get: header },
      client: clientOf(incoming.socket.remoteAddress, header('x-forwarded-for'), ctx.config.trustedProxies),
      body: async () => sent,
    });
    const fields = { ...headers };
    // An answer without a body has no length either (RFC 9110 section 8.6).
    if (status !== 204) fields['content-length'] = String(Buffer.byteLength(body));
    // Of a body without end the rest is not read: the line is closed once the answer is out.
    if (!incoming.complete) fields.connection = 'close';
    outgoing.writeHead(status, fields);
    outgoing.end(incoming.method === 'HEAD' ? undefined : body);
  }

  await new Promise<void>((resolve, reject) => {
    server.once('error', reject);
    server.listen(ctx.config.edgePort, ctx.config.listen.edge, resolve);
  });
  ctx.log.info({ port: ctx.config.edgePort }, 'edge listens');
  onStop(ctx.log, async () => {
    await new Promise<void>((resolve) => {
      server.close(() => resolve());
      server.closeAllConnections();
    });
    await marks.flush();
    await book.flush();
    await ctx.close();
  });
});
