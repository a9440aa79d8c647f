import { Resolver } from 'node:dns/promises';
import pino from 'pino';
import { zoneFile } from '@/core/senders/zone-file';
import { systemClock } from '@/server/clock/clock';
import { readConfig } from '@/server/config';
import type { Context } from '@/server/context';
import type { Db } from '@/server/db/connection';
import { dnsResolver } from '@/server/dns/resolver';
import { addDomain, checkDomain, domainOf, installationZone } from '@/server/senders/domains';
import { startDnsHost } from '../cli/dns-host';
import { benchNewsletter } from './newsletter';
import { benchEnv } from './outside';
import type { Figure } from './report';

const ROUNDS = 60;
const p95 = (all: number[]) => [...all].sort((a, b) => a - b)[Math.floor(all.length * 0.95)] ?? 0;

/**
 * How long a full domain check takes (p95 of 60, after 5 to warm up): all records at two name servers and the resolver, SPF evaluated and
 * counted, results written. Beside Node's own resolver asking for the same records once each, all at once.
 */
export async function domainCheck(db: Db, databaseUrl: string): Promise<Figure> {
  const host = await startDnsHost();
  const { port } = host;
  try {
    const config = readConfig({
      ...benchEnv(databaseUrl),
      INKSET_SENDING_ADDRESSES: '127.0.0.1',
      INKSET_DNS_AUTHORITY_PORT: String(port),
    });
    const servers = [`127.0.0.1:${port}`];
    const ctx: Context = { db, clock: systemClock, config, log: pino({ level: 'silent' }), resolver: dnsResolver(servers, port) };
    const newsletter = await benchNewsletter(ctx, 'Checked');
    const { id } = await addDomain(ctx, newsletter, 'checked.example');
    const { records } = await domainOf(ctx, newsletter, id);
    await host.put('checked.example', `${zoneFile('checked.example', records)}@ IN MX 10 in.inkset.example.\n`);
    await host.put('inkset.example', installationZone(ctx, 'QUJD'));
    const times: number[] = [];
    for (let n = 0; n < ROUNDS + 5; n += 1) {
      const began = performance.now();
      const found = await checkDomain(ctx, id);
      if (found.state !== 'authenticated') throw new Error('The domain was not found right.');
      if (n >= 5) times.push(performance.now() - began);
    }
    const plain = new Resolver();
    plain.setServers(servers);
    const bare: number[] = [];
    for (let n = 0; n < ROUNDS; n += 1) {
      const began = performance.now();
      await Promise.all(records.map((record) => plain.resolve(record.name, record.type).catch(() => null)));
      bare.push(performance.now() - began);
    }
    console.log(`  p95 ${p95(times).toFixed(0)} ms (median ${[...times].sort((a, b) => a - b)[ROUNDS / 2]?.toFixed(0)} ms)`);
    return {
      name: 'full domain check, p95',
      value: p95(times),
      unit: 'ms',
      yardstick: 'bare resolver asking for the same records',
      yardstickValue: p95(bare),
      aim: { atMost: 300 },
    };
  } finally {
    host.close();
  }
}
