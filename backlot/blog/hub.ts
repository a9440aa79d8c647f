import { createHmac, randomBytes } from 'node:crypto';
import type { Answer } from '../shell/http';

/** Who wants to hear of new posts: under which address they know the feed, where they are told, and until when. */
export type Subscription = { topic: string; callback: string; secret: string; until: string };

const DAY_MS = 86_400_000;
const LONGEST_SECONDS = 15 * 86_400;
const MOST_MS = 10_000;
const web = (url: string) => URL.canParse(url) && /^https?:$/.test(new URL(url).protocol);
const refused = (body: string): Answer => ({ status: 400, type: 'text/plain', body });

/** A hub of one feed (W3C WebSub): takes wishes, asks at their address whether they were meant, and tells what is new there. */
export class Hub {
  constructor(
    private readonly subscriptions: Subscription[],
    private readonly feedPath: string,
    private readonly keep: () => void,
    private readonly now: () => Promise<Date>,
  ) {}

  /** Answers a wish (section 5.1); whether it was meant is asked afterwards (section 5.3). */
  async wish(fields: URLSearchParams): Promise<Answer> {
    const mode = fields.get('hub.mode') ?? '';
    const topic = fields.get('hub.topic') ?? '';
    const callback = fields.get('hub.callback') ?? '';
    const secret = fields.get('hub.secret') ?? '';
    if (mode !== 'subscribe' && mode !== 'unsubscribe') return refused('hub.mode is neither subscribe nor unsubscribe');
    if (!web(topic) || new URL(topic).pathname !== this.feedPath) return refused('hub.topic is no feed of this hub');
    if (!web(callback)) return refused('hub.callback is no web address');
    if (Buffer.byteLength(secret) >= 200) return refused('hub.secret is too long');
    const asked = Number.parseInt(fields.get('hub.lease_seconds') ?? '', 10);
    const seconds = asked > 0 ? Math.min(asked, LONGEST_SECONDS) : LONGEST_SECONDS;
    void this.#confirm(mode, { topic, callback, secret }, seconds).catch(() => undefined);
    return { status: 202, type: 'text/plain', body: 'asked back' };
  }

  async #confirm(mode: string, wanted: Omit<Subscription, 'until'>, seconds: number): Promise<void> {
    const challenge = randomBytes(16).toString('hex');
    const back = new URL(wanted.callback);
    for (const [name, value] of Object.entries({
      'hub.mode': mode,
      'hub.topic': wanted.topic,
      'hub.challenge': challenge,
      ...(mode === 'subscribe' ? { 'hub.lease_seconds': String(seconds) } : {}),
    }))
      back.searchParams.append(name, value);
    const answer = await fetch(back, { signal: AbortSignal.timeout(MOST_MS), redirect: 'error' });
    if (!answer.ok || (await answer.text()) !== challenge) return;
    const at = this.subscriptions.findIndex((one) => one.callback === wanted.callback && one.topic === wanted.topic);
    if (at >= 0) this.subscriptions.splice(at, 1);
    if (mode === 'subscribe')
      this.subscriptions.push({ ...wanted, until: new Date((await this.now()).getTime() + seconds * 1_000).toISOString() });
    this.keep();
  }

  /** Tells everybody who wants to hear of it what the feed holds now (section 7), signed where a secret was agreed on (section 7.1). */
  async tell(feedOf: (origin: string) => string): Promise<void> {
    const now = await this.now();
    await Promise.allSettled(
      this.subscriptions
        .filter((one) => new Date(one.until) > now)
        .map(async ({ topic, callback, secret }) => {
          const { origin } = new URL(topic);
          const body = feedOf(origin);
          await fetch(callback, {
            method: 'POST',
            body,
            signal: AbortSignal.timeout(MOST_MS),
            redirect: 'error',
            headers: {
              'content-type': 'application/rss+xml; charset=utf-8',
              link: `<${origin}/hub>; rel="hub", <${topic}>; rel="self"`,
              ...(secret ? { 'x-hub-signature': `sha256=${createHmac('sha256', secret).update(body).digest('hex')}` } : {}),
            },
          });
        }),
    );
  }

  /** What the blog's own page says of it. */
  async said(): Promise<string> {
    const now = (await this.now()).getTime();
    const ends = this.subscriptions.map((one) => new Date(one.until).getTime()).filter((end) => end > now);
    if (ends.length === 0) return 'Nobody has asked it to be told of new posts.';
    const days = Math.ceil((Math.max(...ends) - now) / DAY_MS);
    return `It tells ${ends.length} who asked for it of each new post, for ${days} more ${days === 1 ? 'day' : 'days'}.`;
  }
}
