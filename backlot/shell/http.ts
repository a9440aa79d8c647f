import { createServer, type IncomingMessage, type ServerResponse } from 'node:http';

export type Ask = {
  method: string;
  path: string;
  query: URLSearchParams;
  headers: IncomingMessage['headers'];
  body: string;
  fields: URLSearchParams;
};
export type Answer = {
  status?: number;
  type?: string;
  body?: string | Buffer;
  headers?: Record<string, string>;
  seeOther?: string;
};
export type Handler = (ask: Ask) => Answer | Promise<Answer>;

const MOST_BYTES = 5_000_000;

async function read(request: IncomingMessage): Promise<string> {
  const chunks: Buffer[] = [];
  let size = 0;
  for await (const chunk of request as AsyncIterable<Buffer>) {
    size += chunk.length;
    if (size > MOST_BYTES) throw new Error('too large');
    chunks.push(chunk);
  }
  return Buffer.concat(chunks).toString('utf8');
}

/** Serves one handler on loopback until the process is told to stop. `seeOther` redirects after a post. */
export function serve(name: string, port: number, handler: Handler): void {
  const server = createServer((request: IncomingMessage, response: ServerResponse) => {
    void (async () => {
      try {
        const url = new URL(request.url ?? '/', `http://127.0.0.1:${port}`);
        const body = await read(request);
        const ask: Ask = {
          method: request.method ?? 'GET',
          path: decodeURIComponent(url.pathname),
          query: url.searchParams,
          headers: request.headers,
          body,
          fields: new URLSearchParams(body),
        };
        const answer = ask.path === '/healthz' ? { body: 'ok', type: 'text/plain' } : await handler(ask);
        if (answer.seeOther) response.writeHead(303, { location: answer.seeOther });
        else
          response.writeHead(answer.status ?? 200, {
            'content-type': answer.type ?? 'text/html; charset=utf-8',
            ...answer.headers,
          });
        response.end(request.method === 'HEAD' ? undefined : (answer.body ?? ''));
      } catch (error) {
        response.writeHead(500, { 'content-type': 'text/plain' });
        response.end(`The ${name} stumbled: ${(error as Error).message}`);
      }
    })();
  });
  server.listen(port, '127.0.0.1');
  const stop = () => {
    server.closeAllConnections();
    process.exit(0);
  };
  process.on('SIGTERM', stop);
  process.on('SIGINT', stop);
}

export const notFound: Answer = { status: 404, type: 'text/plain', body: 'Not found' };
export const asJson = (value: unknown, status = 200): Answer => ({
  status,
  type: 'application/json',
  body: JSON.stringify(value),
});
