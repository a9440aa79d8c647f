import type { ChildProcess } from 'node:child_process';
import { createSocket } from 'node:dgram';
import { readFileSync } from 'node:fs';
import { connect } from 'node:net';
import * as dns from 'dns-packet';
import nodemailer from 'nodemailer';
import { afterAll, beforeAll, describe, expect, it } from 'vitest';
import { addDomain, domainOf } from '@/server/senders/domains';
import { pickPort } from '../../cli/ports';
import { listening, listens, startProcess } from './process';
import { TestWorld } from './world';

let world: TestWorld;
const ports = { mailroom: 0, names: 0, edge: 0 };
const children: Record<string, ChildProcess> = {};

beforeAll(async () => {
  world = await TestWorld.open();
  const taken = new Set<number>();
  for (const name of ['mailroom', 'names', 'edge'] as const) {
    ports[name] = await pickPort(24_600, taken);
    children[name] = startProcess(world, name, {
      [`INKSET_${name.toUpperCase()}_PORT`]: String(ports[name]),
      // Each listens where it is told to: this is not where the others do.
      [`INKSET_${name.toUpperCase()}_LISTEN`]: '127.0.0.8',
      INKSET_TRUSTED_PROXIES: '127.0.0.8',
    });
  }
  await Promise.all(Object.values(ports).map((port) => listening(port, '127.0.0.8')));
}, 180_000);
afterAll(async () => {
  for (const child of Object.values(children)) child.kill('SIGKILL');
  await world.close();
});

const memory = (name: string) =>
  Number(/VmHWM:\s+(\d+)/.exec(readFileSync(`/proc/${children[name]!.pid}/status`, 'utf8'))?.[1] ?? 0) / 1024;

describe('each process listens where its configuration says', () => {
  it('and nowhere else', async () => {
    for (const port of Object.values(ports)) {
      expect(await listens(port, '127.0.0.8')).toBe(true);
      expect(await listens(port, '127.0.0.1')).toBe(false);
    }
  });
});

describe('the mailroom', () => {
  const send = (to: string, raw: string | Buffer, more: object = {}) =>
    nodemailer
      .createTransport({ host: '127.0.0.8', port: ports.mailroom, tls: { rejectUnauthorized: false }, ...more })
      .sendMail({ envelope: { from: 'reporter@heronmail.example', to }, raw })
      .then(
        (info) => info.response,
        (error) => error.response ?? error.message,
      );
  const reports = async () => (await world.pool.query('select kind, to_local, domain_id, bytes from reports order by id')).rows;

  it('offers encryption with a certificate of its own making', async () => {
    expect(await send('postmaster@in.inkset.example', 'Subject: hello\r\n\r\nAre you there?\r\n', { requireTLS: true })).toMatch(
      /^250/,
    );
  });
  it('keeps what is reported to us until there is a screen for it, and refuses who is nobody', async () => {
    const newsletter = await world.newsletter();
    const { id } = await addDomain(world.ctx, newsletter, 'reported.example');
    const rua = (await domainOf(world.ctx, newsletter, id)).records.find((record) => record.purpose === 'dmarc')!.value;
    const token = /mailto:([^@]+)@/.exec(rua)![1]!;
    for (const local of [token, token.toUpperCase(), 'tlsrpt', 'abuse'])
      expect(await send(`${local}@in.inkset.example`, `Subject: report to ${local}\r\n\r\nwords\r\n`)).toMatch(/^250/);
    const kept = (await reports()).slice(1);
    expect(kept.map((row) => row.kind)).toEqual(['dmarc', 'dmarc', 'tls', 'complaint']);
    expect(kept.map((row) => row.domain_id)).toEqual([id, id, null, null]);
    expect(kept[0].bytes.toString()).toContain('words');
    expect(await send('nobody@in.inkset.example', 'Subject: x\r\n\r\nx\r\n')).toMatch(/550 5\.1\.1/);
  });
  it('stops keeping a mail at two megabytes, however long it goes on', async () => {
    const before = memory('mailroom');
    const count = (await reports()).length;
    const long = Buffer.concat([Buffer.from('Subject: long\r\n\r\n'), Buffer.alloc(80_000_000, `${'x'.repeat(70)}\r\n`)]);
    expect(await send('postmaster@in.inkset.example', long)).toMatch(/552/);
    expect(memory('mailroom') - before).toBeLessThan(60);
    expect(await reports()).toHaveLength(count);
  }, 180_000);
});

describe('names', () => {
  const ask = (message: Buffer, ms = 250) =>
    new Promise<dns.DecodedPacket | null>((resolve) => {
      const socket = createSocket('udp4');
      const end = setTimeout(() => resolve(null), ms);
      socket.once('message', (bytes) => {
        clearTimeout(end);
        socket.close();
        resolve(dns.decode(bytes));
      });
      socket.send(message, ports.names, '127.0.0.8');
    });
  const questions: dns.Question[] = [{ type: 'TXT', name: 'ink1.x.keys.inkset.example', class: 'IN' }];

  it('answers questions, and nothing else', async () => {
    expect(await ask(dns.encode({ type: 'query', id: 1, questions }), 3_000)).toMatchObject({ id: 1, rcode: 'NXDOMAIN' });
    expect(await ask(dns.encode({ type: 'response', id: 2, questions }))).toBeNull();
    expect(await ask(Buffer.from('rubbish'))).toBeNull();
    // A notification (opcode 4) is a kind of query that we do not know.
    expect(await ask(dns.encode({ type: 'query', id: 3, flags: 4 << 11, questions }), 3_000)).toMatchObject({ rcode: 'NOTIMP' });
  });
});

describe('edge', () => {
  const raw = (text: string) =>
    new Promise<string>((resolve) => {
      let said = '';
      const socket = connect(ports.edge, '127.0.0.8', () => socket.write(text));
      socket.on('data', (chunk) => {
        said += chunk;
      });
      socket.on('close', () => resolve(said));
      socket.on('error', () => resolve(said));
    });

  it.each(['/e/confirm/%E0%A4%A', '/e/leave/%', '/e/form/%00', '/e/c/%ff/1?u=%', '//', '/e/media/..%2f..%2fsecrets.png'])(
    'answers %s with a page that says so',
    async (path) => {
      expect(await raw(`GET ${path} HTTP/1.1\r\nhost: go.inkset.example\r\nconnection: close\r\n\r\n`)).toMatch(
        /^HTTP\/1\.1 40[04]/,
      );
    },
  );
  it('does not keep a body that has no end', async () => {
    const before = memory('edge');
    const { publicId } = await world.form(await world.newsletter('Long')).then((form) => form);
    const body = Buffer.alloc(7_500_000, 'x');
    const response = await fetch(`http://127.0.0.8:${ports.edge}/e/form/${publicId}`, {
      method: 'POST',
      headers: { 'content-type': 'application/json', accept: 'application/json' },
      body,
    });
    expect(response.status).toBe(422);
    expect(memory('edge') - before).toBeLessThan(60);
  });
  it('believes of where a visitor comes from whom it trusts, and no other', async () => {
    const newsletter = await world.newsletter('Networks');
    const { publicId } = await world.form(newsletter);
    // We come from 127.0.0.1, which is no proxy of ours here.
    await fetch(`http://127.0.0.8:${ports.edge}/e/form/${publicId}`, {
      method: 'POST',
      headers: { 'x-forwarded-for': '198.51.100.9', 'content-type': 'application/x-www-form-urlencoded' },
      body: 'email=where%40heronmail.example',
    });
    const { rows } = await world.pool.query(
      "select c.network from consents c join readers r on r.id = c.reader_id where r.address = 'where@heronmail.example'",
    );
    expect(rows.map((row) => row.network)).not.toContain('198.51.100.9');
  });
});
