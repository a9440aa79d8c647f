/*
 * The yardstick of form posts: a bare Node server that reads a form-encoded body and does one durable INSERT a request, with as many
 * connections to PostgreSQL as the edge has.
 */
import { createServer } from 'node:http';
import pg from 'pg';

const pool = new pg.Pool({ connectionString: process.env.INKSET_DATABASE_URL, max: 20 });
const server = createServer(async (request, response) => {
  const chunks: Buffer[] = [];
  for await (const chunk of request) chunks.push(chunk as Buffer);
  const email = new URLSearchParams(Buffer.concat(chunks).toString()).get('email');
  await pool.query('insert into bare (email) values ($1)', [email]);
  response.end('{"ok":true}');
});
server.listen(0, '127.0.0.1', () => process.send?.({ port: (server.address() as { port: number }).port }));
