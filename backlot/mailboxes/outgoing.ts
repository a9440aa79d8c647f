/*
 * Mail that providers send of their own: notices, reports, people's answers. As every mail server does, they try again for days when nobody takes it.
 */

export type Outgoing = { from: string; to: string; raw: string };
type Waiting = Outgoing & { since: number; due: number; tries: number };

const MINUTE = 60_000;
const GIVEN_UP_AFTER = 5 * 24 * 60 * MINUTE;
/** A first second try soon, then seldomer, and once an hour at last. */
const waitAfter = (tries: number) => Math.min(60 * MINUTE, MINUTE * 2 ** (tries - 1));

/** Sends what is due by a world's clock, one after the other and each until it is taken, or five days long. */
export class OutgoingMail {
  #waiting: Waiting[] = [];
  #busy = false;

  constructor(
    private readonly now: () => Promise<Date>,
    private readonly send: (mail: Outgoing) => Promise<void>,
  ) {}

  get waiting(): number {
    return this.#waiting.length;
  }

  async add(mail: Outgoing): Promise<void> {
    const now = (await this.now()).getTime();
    this.#waiting.push({ ...mail, since: now, due: now, tries: 0 });
    await this.work();
  }

  /** Tries what is due now; answers how many were taken. */
  async work(): Promise<number> {
    if (this.#busy) return 0;
    this.#busy = true;
    let taken = 0;
    try {
      const now = (await this.now()).getTime();
      for (const mail of this.#waiting.filter(({ due }) => due <= now)) {
        const done = await this.send(mail).then(
          () => true,
          () => false,
        );
        mail.tries += 1;
        mail.due = now + waitAfter(mail.tries);
        if (done) taken += 1;
        if (done || now - mail.since > GIVEN_UP_AFTER) this.#waiting = this.#waiting.filter((one) => one !== mail);
      }
    } finally {
      this.#busy = false;
    }
    return taken;
  }
}
