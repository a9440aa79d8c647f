/*
 * edge: answers the hot public paths (form, script, confirm, open, click, leave) on a bare Node listener; the link host points here.
 * It needs PostgreSQL; it reports to the log; any number of it may run. The paths are the same functions that Next mounts at /e.
 * While the database is away, links and pixels still work and their marks wait in memory; forms say that it did not work.
 */
import { createServer, type IncomingMessage, type ServerResponse } from 'node:http';
import { MarkBook } from '@/server/delivery/marks';
import { FormBook } from '@/server/growth/counts';
import { MOST_BYTES } from '@/server/public/request';
import { publicRoutes } from '@/server/public/router';
import { openRuntime } from '@/server/runtime';
import { onStop, start } from './lifecycle';

/** What is read and thrown away of a body that is too long, so that its sender is there to hear the answer. */
const PATIENCE_BYTES = 8_000_000;

/** A body, or as much of it as shows that it is too long. */
async function readUpTo(incoming: IncomingMessage, most: number): Promise<Buffer> {
  const chunks: Buffer[] = [];
  let size = 0;
  for await (const chunk of incoming.iterator({ destroyOnReturn: false }) as AsyncIterable<Buffer>) {
    if (size < most) chunks.push(chunk);
    size += chunk.length;
    if (size > PATIENCE_BYTES) break;
  }
  return Buffer.concat(chunks).subarray(0, most);
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
    if (incoming.url === '/healthz') return void outgoing.end('ok');
    const headers = new Headers();
    for (const [name, value] of Object.entries(incoming.headers)) if (value !== undefined) headers.set(name, String(value));
    if (!headers.has('x-forwarded-for')) headers.set('x-forwarded-for', incoming.socket.remoteAddress ?? '');
    const hasBody = incoming.method !== 'GET' && incoming.method !== 'HEAD';
    const sent = hasBody ? await readUpTo(incoming, MOST_BYTES + 1) : null;
    const request = new Request(new URL(incoming.url ?? '/', ctx.config.linkOrigin), {
      method: incoming.method,
      headers,
      ...(sent && { body: new Uint8Array(sent) }),
    });
    const response = await handle(request);
    const body = Buffer.from(await response.arrayBuffer());
    const fields = Object.fromEntries(response.headers);
    // 204 and 304 have no body and so no length (RFC 9110 section 8.6).
    if (response.status !== 204) fields['content-length'] = String(body.length);
    // Of a body without end the rest is not read: the line is closed once the answer is out.
    if (!incoming.complete) fields.connection = 'close';
    outgoing.writeHead(response.status, fields);
    outgoing.end(incoming.method === 'HEAD' ? undefined : body);
  }

  await new Promise<void>((resolve, reject) => {
    server.once('error', reject);
    server.listen(ctx.config.edgePort, '127.0.0.1', resolve);
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
