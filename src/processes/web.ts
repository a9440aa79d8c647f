/*
 * web: the desk, the account pages and newsletters' own pages, by Next. It needs PostgreSQL and a build; it reports to the log; any number of it may
 * run. Before Next sees a request it says who asks, by the one rule of all processes, and what a browser may do with the answer.
 */
import { randomBytes } from 'node:crypto';
import { createServer, type IncomingMessage, type ServerResponse } from 'node:http';
import next from 'next';
import pino from 'pino';
import { clientOf } from '@/core/network';
import { readConfig } from '@/server/config';
import { deskPolicy, isBuilt, safeHeaders } from '@/server/site/policy';
import { onStop, start } from './lifecycle';

const MOST_BYTES = 100_000;

/** Are its percent signs those of an address? */
function decodes(path: string): boolean {
  try {
    decodeURIComponent(path);
    return true;
  } catch {
    return false;
  }
}

start(async () => {
  const config = readConfig(process.env);
  const log = pino({ level: config.logLevel, base: { process: 'web' } });
  const app = next({
    dev: process.env.INKSET_DEV === 'true',
    dir: process.cwd(),
    hostname: config.listen.web,
    port: config.webPort,
  });
  await app.prepare();
  const handle = app.getRequestHandler();

  function prepare(request: IncomingMessage, response: ServerResponse): void {
    const path = request.url ?? '/';
    request.headers['x-forwarded-for'] = clientOf(
      request.socket.remoteAddress,
      String(request.headers['x-forwarded-for'] ?? ''),
      config.trustedProxies,
    );
    // Next reads the nonce for its scripts out of the request's own header of this name; nobody else may set it.
    delete request.headers['content-security-policy'];
    for (const [name, value] of Object.entries(safeHeaders(config, path))) response.setHeader(name, value);
    // The public paths say for themselves what may be done with their pages, and what is no page needs no word of it.
    if (/^\/(e|at)\//.test(path) || isBuilt(path)) return;
    const nonce = randomBytes(16).toString('base64');
    const policy = deskPolicy(config, nonce, process.env.INKSET_DEV === 'true');
    request.headers['content-security-policy'] = policy;
    response.setHeader('content-security-policy', policy);
  }

  /** Why a request is not even looked at; null for all others. */
  function refusal(request: IncomingMessage): [status: number, sentence: string] | null {
    const path = request.url ?? '/';
    if (/%00/.test(path) || !decodes(path)) return [400, 'This address is not whole.'];
    if (!/^\/(api|e)\//.test(path) || request.method === 'GET' || request.method === 'HEAD') return null;
    // These are read whole before anybody looks at them, so their length has to be known and small.
    const length = request.headers['content-length'];
    if (length === undefined) return request.headers['transfer-encoding'] ? [411, 'Say how long it is.'] : null;
    return Number(length) > MOST_BYTES ? [413, 'This is more than is taken here.'] : null;
  }

  const server = createServer((request, response) => {
    const refused = refusal(request);
    if (refused)
      return void response
        .writeHead(refused[0], { 'content-type': 'text/plain; charset=utf-8', connection: 'close' })
        .end(refused[1]);
    prepare(request, response);
    handle(request, response).catch((error: unknown) => {
      log.error({ err: error }, 'a request failed');
      if (!response.headersSent) response.writeHead(500);
      response.end();
    });
  });
  // Longer than a proxy in front keeps its idle lines, so that it never writes into one that is being closed.
  server.keepAliveTimeout = 75_000;
  await new Promise<void>((resolve, reject) => {
    server.once('error', reject);
    server.listen(config.webPort, config.listen.web, resolve);
  });
  log.info({ port: config.webPort }, 'web listens');
  onStop(log, async () => {
    await new Promise<void>((resolve) => {
      server.close(() => resolve());
      server.closeIdleConnections();
      setTimeout(() => server.closeAllConnections(), 3_000).unref();
    });
    await app.close();
  });
});
