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
import { deskPolicy, publicPagePolicy, safeHeaders } from '@/server/site/policy';
import { onStop, start } from './lifecycle';

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
    // The public paths say for themselves what may be done with their pages.
    if (path.startsWith('/e/')) return;
    const nonce = randomBytes(16).toString('base64');
    const policy = path.startsWith('/at/')
      ? publicPagePolicy(config, nonce)
      : deskPolicy(config, nonce, process.env.INKSET_DEV === 'true');
    request.headers['content-security-policy'] = policy;
    response.setHeader('content-security-policy', policy);
  }

  const server = createServer((request, response) => {
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
