/*
 * A thread that checks signatures of reports (DKIM, RFC 6376), one mail after the other. It is bundled into dist/ and run from there, so that the time and the
 * memory a mail may cost have an end whatever it is made of.
 */
import { parentPort } from 'node:worker_threads';
import { dkimVerify } from 'mailauth/lib/dkim/verify';
import type { ThreadAnswer } from '../threads';
import type { SignaturesFound, SignatureTask } from './signed-by';

type Result = {
  signingDomain?: string;
  signingHeaders?: { keys?: string };
  canonBodyLengthLimited?: boolean;
  status: { result: string };
};

async function check({ bytes, keys, now }: SignatureTask): Promise<SignaturesFound> {
  const { headerFrom, results } = await dkimVerify(Buffer.from(bytes), {
    curTime: now,
    resolver: async (name: string) => {
      const key = keys[name] ?? 'none';
      if (typeof key === 'object') return [[key.record]];
      throw Object.assign(new Error(key), { code: key === 'none' ? 'ENOTFOUND' : 'ETIMEOUT' });
    },
  });
  const signatures = (results as Result[]).flatMap(({ signingDomain, signingHeaders, canonBodyLengthLimited, status }) =>
    signingDomain
      ? [
          {
            domain: signingDomain,
            result:
              status.result === 'pass'
                ? ('pass' as const)
                : status.result === 'temperror'
                  ? ('unanswered' as const)
                  : ('fail' as const),
            // A mail whose sender is not signed may be anybody's (RFC 6376 section 5.4).
            whole: !canonBodyLengthLimited && /(?:^|[\s:])from(?:[\s:]|$)/i.test(signingHeaders?.keys ?? ''),
          },
        ]
      : [],
  );
  return { from: headerFrom, signatures };
}

parentPort!.on('message', async (task: SignatureTask) => {
  const say = (answer: ThreadAnswer) => parentPort!.postMessage(answer);
  try {
    say({ made: JSON.stringify(await check(task)) });
  } catch {
    say({ fault: { code: 'invalid', sentence: 'Its signature cannot be read.' } });
  }
});
