/* A worker's part of an import in a process of its own, so that its memory can be told: works on the import whose id it is sent, and says how much it took. */
import pino from 'pino';
import { systemClock } from '@/server/clock/clock';
import { readConfig } from '@/server/config';
import { connect } from '@/server/db/connection';
import { workImport } from '@/server/transfer/work';
import { outsideResolver } from './outside';

const config = readConfig(process.env);
const { db } = connect(config.databaseUrl, () => {}, 4, { prepares: true });
const ctx = { db, clock: systemClock, config, log: pino({ level: 'error' }), resolver: outsideResolver() };
process.on('message', async (id: string) => {
  await workImport(ctx, id);
  process.send?.({ megabytes: process.resourceUsage().maxRSS / 1_024 });
});
process.send?.('ready');
