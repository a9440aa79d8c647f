/*
 * The yardstick of opened letters: a bare Node server that answers with a picture and writes what was asked for with the same batching as the edge, at the latest 50 ms
 * after it came and a thousand at once. It knows nobody, judges nothing and counts nothing.
 */
import { createServer } from 'node:http';
import pg from 'pg';

const PICTURE = Buffer.from('R0lGODlhAQABAIAAAAAAAP///yH5BAEAAAAALAAAAAABAAEAAAIBRAA7', 'base64');
const pool = new pg.Pool({ connectionString: process.env.INKSET_DATABASE_URL, max: 20 });
let waiting: { path: string; at: Date; agent: string }[] = [];
let timer: NodeJS.Timeout | null = null;
let writing: Promise<unknown> = Promise.resolve();
const write = () => {
  timer = null;
  while (waiting.length) {
    const batch = waiting.slice(0, 1_000);
    waiting = waiting.slice(1_000);
    writing = writing.then(() =>
      pool.query('insert into bare_opens (path, at, agent) select * from unnest($1::text[], $2::timestamptz[], $3::text[])', [
        batch.map(({ path }) => path),
        batch.map(({ at }) => at),
        batch.map(({ agent }) => agent),
      ]),
    );
  }
};
const server = createServer((request, response) => {
  waiting.push({ path: request.url ?? '', at: new Date(), agent: request.headers['user-agent'] ?? '' });
  if (timer === null) timer = setTimeout(write, 50);
  response.writeHead(200, { 'content-type': 'image/gif' }).end(PICTURE);
});
server.listen(0, '127.0.0.1', () => process.send?.({ port: (server.address() as { port: number }).port }));
