import type { Task } from 'graphile-worker';
import Joi from 'joi';
import { letJoin, runRule } from '../autosend/runs';
import { check } from '../check';
import type { Context } from '../context';
import { workReport } from '../delivery/read-reports';
import { remindWaiting } from '../forms/remind';
import { watch } from '../growth/watch';
import { tellWeek } from '../growth/week';
import { workBulk } from '../keeping/bulk';
import { keepCold } from '../keeping/cold-counts';
import { tellOwnersDaily } from '../newsletters/alerts';
import { measureSegments } from '../readers/segments';
import { warmReaders } from '../readers/warming';
import { checkDomain } from '../senders/domains';
import { countRamp } from '../sending/ramp-days';
import { keepFigures } from '../sending/results';
import { startLetter } from '../sending/start';
import { decideTest, releaseRest } from '../sending/versions';
import { eraseNewsletter } from '../site/removing';
import { workExport } from '../transfer/exports';
import { workRestore } from '../transfer/whole-in';
import { workImport } from '../transfer/work';

const byId = Joi.object<{ id: string }>({ id: Joi.string().uuid().required() });
const byNumber = Joi.object<{ id: string }>({
  id: Joi.string()
    .pattern(/^\d{1,18}$/)
    .required(),
});

export type JobName =
  | 'start-letter'
  | 'decide-test'
  | 'release-rest'
  | 'letter-figures'
  | 'run-rule'
  | 'check-domain'
  | 'read-report'
  | 'owner-summary'
  | 'week-summary'
  | 'watch'
  | 'count-ramp'
  | 'remind'
  | 'erase-newsletter'
  | 'bulk-act'
  | 'warm-readers'
  | 'import'
  | 'export'
  | 'restore';

/** These may take minutes. So many of them run side by side in one worker and no more, so that letters begin and feeds are read meanwhile. */
const LONG: ReadonlySet<string> = new Set<JobName>([
  'import',
  'export',
  'bulk-act',
  'warm-readers',
  'erase-newsletter',
  'restore',
  'read-report',
]);
const MOST_LONG = 2;

/**
 * Every job of the house. All may run twice and side by side in several workers: what is due stands in tables, and a job takes only what is
 * due. Within one worker a second one for the same thing steps aside, and so
 * does a long one where two are under way, since the tick asks again every second.
 */
export function jobs(ctx: Context): Record<JobName, Task> {
  const busy = new Set<string>();
  const long = new Set<string>();
  const alone =
    (name: string, work: (payload: unknown) => Promise<void>): Task =>
    async (payload) => {
      const key = `${name} ${JSON.stringify(payload)}`;
      if (busy.has(key) || (LONG.has(name) && long.size >= MOST_LONG)) return;
      busy.add(key);
      if (LONG.has(name)) long.add(key);
      try {
        await work(payload);
      } finally {
        busy.delete(key);
        long.delete(key);
      }
    };
  const tasks: Record<JobName, (payload: unknown) => Promise<void>> = {
    'start-letter': async (payload) => {
      const { id } = check(byId, payload);
      await letJoin(ctx, id);
      await startLetter(ctx, id);
    },
    'release-rest': async (payload) => {
      const { id } = check(byId, payload);
      while (await releaseRest(ctx, id));
    },
    'letter-figures': async (payload) => keepFigures(ctx, check(byId, payload).id),
    'decide-test': async (payload) => decideTest(ctx, check(byId, payload).id),
    'owner-summary': async (payload) => tellOwnersDaily(ctx, check(byId, payload).id),
    'week-summary': async (payload) => tellWeek(ctx, check(byId, payload).id),
    'count-ramp': async (payload) => countRamp(ctx, check(byId, payload).id),
    watch: async (payload) => watch(ctx, check(byId, payload).id),
    'erase-newsletter': async (payload) => eraseNewsletter(ctx, check(byId, payload).id),
    'bulk-act': async (payload) => workBulk(ctx, check(byId, payload).id),
    export: async (payload) => workExport(ctx, check(byId, payload).id),
    restore: async (payload) => workRestore(ctx, check(byId, payload).id),
    import: async (payload) => workImport(ctx, check(byId, payload).id),
    'warm-readers': async (payload) => {
      const { id } = check(byId, payload);
      await warmReaders(ctx, id);
      await measureSegments(ctx, id);
      await keepCold(ctx, id);
    },
    'read-report': async (payload) => workReport(ctx, check(byNumber, payload).id),
    remind: async () => {
      await remindWaiting(ctx);
    },
    'run-rule': async (payload) => runRule(ctx, check(byId, payload).id),
    'check-domain': async (payload) => {
      await checkDomain(ctx, check(byId, payload).id);
    },
  };
  return Object.fromEntries(Object.entries(tasks).map(([name, work]) => [name, alone(name, work)])) as Record<JobName, Task>;
}
