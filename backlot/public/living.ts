import { chance, seedOf } from './chance';
import { type Act, comesOf, personAt } from './people';

/*
 * The public at the mailboxes of this world, when it is awake: whoever a letter came to opens it, follows its links, answers, leaves and reports it as their habits have
 * it, at times of this world's clock, so that a month goes by as fast as the clock is moved. It writes down what people really did.
 */

/** A letter as its mailbox has it. */
export type Arrived = { id: string; to: string; from: string; subject: string; html: string; leaveUrl: string | null };
/** What a person really did with a letter, whatever can be seen of it. */
export type Truth = {
  to: string;
  from: string;
  subject: string;
  inJunk: boolean;
  read: boolean;
  clicked: boolean;
  complained: boolean;
  left: boolean;
  answered: boolean;
};
type Doing = Omit<Act, 'kind' | 'link'> | 'complain' | 'leave' | 'answer';
export type Hands = {
  /** Fetches an address as a program of somebody, from their network. */
  fetch: (url: string, as: { agent: string; network: string }) => Promise<void>;
  leave: (url: string) => Promise<void>;
  complain: (letterId: string) => Promise<void>;
  answer: (letterId: string) => Promise<void>;
};

const LEAVES = 0.01;
const ANSWERS = 0.008;
/** What a complaint does to a sender's name at a provider, and what each reader does who reads. */
const BLAMED = 0.03;
const FORGIVEN = 0.002;
/** Nobody follows these for what a letter tells. */
const NO_READING = /unsubscribe|leave|choose what|browser|settings/i;
const MOST_WAITING = 200_000;

const plain = (text: string) => text.replace(/&amp;/g, '&').replace(/&#x?0*(?:38|26);/gi, '&');
const all = (html: string, pattern: RegExp) => [...html.matchAll(pattern)];

/** The pictures that a letter fetches from elsewhere, and the links that somebody would follow in it. */
export function readable(html: string): { pictures: string[]; links: string[] } {
  const pictures = all(html, /<img\b[^>]*?\bsrc="(https?:[^"]+)"/gi).map(([, src]) => plain(src!));
  const links = all(html, /<a\b[^>]*?\bhref="(https?:[^"]+)"[^>]*>([\s\S]*?)<\/a>/gi)
    .filter(([, , words]) => !NO_READING.test(words!.replace(/<[^>]+>/g, ' ')))
    .map(([, href]) => plain(href!));
  return { pictures, links: [...new Set(links)] };
}

export class LivingPublic {
  #awake = false;
  #waiting: { due: number; order: number; letter: Arrived; what: Doing; urls: string[] }[] = [];
  #order = 0;
  #busy = false;
  readonly #junk = new Map<string, number>();
  readonly #blame = new Map<string, number>();
  readonly truth: Truth[] = [];

  constructor(
    private readonly now: () => Promise<Date>,
    private readonly hands: Hands,
  ) {}

  get awake(): boolean {
    return this.#awake;
  }
  get waiting(): number {
    return this.#waiting.length;
  }
  /** Awake from now on, or asleep again; letters that came while it slept nobody reads. */
  wake(awake: boolean): void {
    this.#awake = awake;
    if (!awake) this.#waiting = [];
  }
  /** From now on a provider puts this share of what comes into junk, whatever its readers say of it. */
  junkAt(provider: string, share: number): void {
    this.#junk.set(provider, Math.min(1, Math.max(0, Number.isFinite(share) ? share : 0)));
  }
  junkOf(provider: string): number {
    return this.#junk.get(provider) ?? 0;
  }
  /** What share it puts there now: besides what it was told to, the more the more of its readers complained lately, and the less the more they read. */
  junkNow(provider: string): number {
    const told = this.junkOf(provider);
    return told + (1 - told) * (this.#blame.get(provider) ?? 0);
  }
  #judge(provider: string, complained: boolean): void {
    const blame = this.#blame.get(provider) ?? 0;
    this.#blame.set(provider, complained ? blame + BLAMED * (1 - blame) : blame * (1 - FORGIVEN));
  }

  /** A letter came to somebody: what they will do with it is settled, and done when its time has come. */
  async came(letter: Arrived): Promise<void> {
    const person = this.#awake ? personAt(letter.to) : null;
    if (!person || this.#waiting.length > MOST_WAITING) return;
    const { pictures, links } = readable(letter.html);
    const came = comesOf(person, letter.subject, { links: links.length, inJunk: this.junkNow(person.provider) });
    if (came.read) this.#judge(person.provider, false);
    const random = chance(seedOf(`${letter.to} ${letter.subject} besides`));
    const [left, answered] = [came.read && letter.leaveUrl !== null && random() < LEAVES, came.read && random() < ANSWERS];
    const clicked = came.clicked && links.length > 0;
    const now = (await this.now()).getTime();
    const later = (seconds: number, what: Doing, urls: string[] = []) =>
      this.#waiting.push({ due: now + 1_000 * seconds, order: this.#order++, letter, what, urls });
    for (const { kind, afterSeconds, link, agent, network } of came.acts) {
      const urls = kind === 'open' ? pictures : link === null || !links[link] ? [] : [links[link]!];
      if (urls.length) later(afterSeconds, { afterSeconds, agent, network }, urls);
    }
    const last = Math.max(600, ...came.acts.map(({ afterSeconds }) => afterSeconds));
    if (came.complains) later(last + 60, 'complain');
    if (answered) later(last + 120, 'answer');
    if (left) later(last + 180, 'leave');
    this.truth.push({
      to: letter.to,
      from: letter.from,
      subject: letter.subject,
      inJunk: came.inJunk,
      read: came.read,
      clicked,
      complained: came.complains,
      left,
      answered,
    });
  }

  /** Does what is due, the earliest first; answers how much. What nobody answers is lost, as it is with people. */
  async work(): Promise<number> {
    if (this.#busy) return 0;
    this.#busy = true;
    let done = 0;
    try {
      const now = (await this.now()).getTime();
      const due = this.#waiting.filter((one) => one.due <= now).sort((a, b) => a.due - b.due || a.order - b.order);
      this.#waiting = this.#waiting.filter((one) => one.due > now);
      for (const { letter, what, urls } of due) {
        await this.#act(letter, what, urls).catch(() => {});
        done += 1;
      }
    } finally {
      this.#busy = false;
    }
    return done;
  }

  async #act(letter: Arrived, what: Doing, urls: string[]): Promise<void> {
    if (what === 'complain') {
      const person = personAt(letter.to);
      if (person) this.#judge(person.provider, true);
      return this.hands.complain(letter.id);
    }
    if (what === 'answer') return this.hands.answer(letter.id);
    if (what === 'leave') return this.hands.leave(letter.leaveUrl!);
    for (const url of urls) await this.hands.fetch(url, what);
  }
}
