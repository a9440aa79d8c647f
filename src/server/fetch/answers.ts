import { asFault } from '@/core/faults';
import type { Context } from '../context';
import { guardedFetch } from './guarded';

/** What became of asking an address: it answers, it does not, or it does not tell programs. */
export type Answers = { url: string; verdict: 'answers' | 'dead' | 'untold'; words: string };

const KEPT_MS = 10 * 60_000;
const MOST_KEPT = 2_000;
const MOST_LINKS = 100;
const AT_ONCE = 6;
const LIMITS = { timeoutMs: 6_000, bytes: 300_000, redirects: 5 };

const kept = new Map<string, { at: number; answer: Answers }>();

async function ask(ctx: Pick<Context, 'config'>, url: string): Promise<Answers> {
  try {
    const { status } = await guardedFetch(
      url,
      ctx.config.allowLoopback,
      { 'user-agent': 'Inkset link check', accept: '*/*' },
      LIMITS,
    );
    if (status < 400) return { url, verdict: 'answers', words: '' };
    // Not for programs, too many of them, or not just now: it says nothing about people.
    if ([401, 403, 405, 406, 429, 451, 503].includes(status))
      return { url, verdict: 'untold', words: `It answers programs with ${status}.` };
    return {
      url,
      verdict: 'dead',
      words: status === 404 || status === 410 ? 'There is no such page.' : `It answers with ${status}.`,
    };
  } catch (error) {
    const { sentence } = asFault(error);
    // Whoever sends more than we read has answered.
    return sentence.startsWith('The answer was longer')
      ? { url, verdict: 'answers', words: '' }
      : { url, verdict: 'dead', words: sentence };
  }
}

/** Asks addresses whether they answer, some at once, on a writer's behalf; what was asked not long ago is not asked again. */
export async function answersOf(ctx: Pick<Context, 'config' | 'clock'>, urls: string[]): Promise<Answers[]> {
  const wanted = [...new Set(urls)].filter((url) => /^https?:/i.test(url)).slice(0, MOST_LINKS);
  const now = ctx.clock.now().getTime();
  const out: Answers[] = [];
  const left = wanted.filter((url) => {
    const known = kept.get(url);
    const fresh = known !== undefined && Math.abs(now - known.at) < KEPT_MS;
    if (fresh) out.push(known.answer);
    return !fresh;
  });
  await Promise.all(
    Array.from({ length: Math.min(AT_ONCE, left.length) }, async () => {
      for (let url = left.shift(); url !== undefined; url = left.shift()) {
        const answer = await ask(ctx, url);
        if (kept.size >= MOST_KEPT) kept.delete(kept.keys().next().value!);
        kept.set(url, { at: now, answer });
        out.push(answer);
      }
    }),
  );
  return out;
}
