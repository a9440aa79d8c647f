import type { Task } from 'graphile-worker';
import Joi from 'joi';
import { pollNewPosts } from '../autosend/new-posts';
import { check } from '../check';
import type { Context } from '../context';
import { emptyOutbox } from '../mail/outbox';
import { checkDomain } from '../senders/domains';
import { deliverTo } from '../sending/deliver';
import { finishLetters, startLetter } from '../sending/letters';

const byId = Joi.object<{ id: string }>({ id: Joi.string().uuid().required() });
const byProvider = Joi.object<{ provider: string }>({ provider: Joi.string().required() });

export type JobName = 'start-letter' | 'deliver' | 'outbox' | 'poll-feed' | 'check-domain';

/** Every job of the house. All may run twice: what is due stands in tables, and a job takes only what is due. */
export function jobs(ctx: Context, workerId: string, stopping: () => boolean): Record<JobName, Task> {
  return {
    'start-letter': async (payload) => startLetter(ctx, check(byId, payload).id),
    deliver: async (payload) => {
      const { provider } = check(byProvider, payload);
      const handed = await deliverTo(ctx, provider, workerId, stopping);
      if (handed) {
        ctx.log.info({ provider, handed }, 'letters handed over');
        await finishLetters(ctx);
      }
    },
    outbox: async () => {
      await emptyOutbox(ctx);
    },
    'poll-feed': async (payload) => {
      await pollNewPosts(ctx, check(byId, payload).id);
    },
    'check-domain': async (payload) => {
      await checkDomain(ctx, check(byId, payload).id);
    },
  };
}
