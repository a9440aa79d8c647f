/** The one error shape, from the core to the screen and to the wire: a code for programs and a sentence for a person. */
export type FaultCode =
  | 'invalid' // the input breaks a rule; `fields` says which
  | 'not-found'
  | 'forbidden'
  | 'conflict'
  | 'expired'
  | 'too-many'
  | 'proof' // the visitor's machine has to show work first
  | 'unreachable' // something outside did not answer
  | 'unavailable'; // something of ours is away for now

const STATUS: Record<FaultCode, number> = {
  invalid: 422,
  'not-found': 404,
  forbidden: 403,
  conflict: 409,
  expired: 410,
  'too-many': 429,
  proof: 428,
  unreachable: 502,
  unavailable: 503,
};

export type FaultValue = {
  code: FaultCode;
  sentence: string;
  fields?: Record<string, string>;
  next?: Record<string, string>;
};

/** A fault that has a sentence for whoever sees it. Thrown by use cases, turned into a `FaultValue` at the edges. */
export class Fault extends Error {
  constructor(
    readonly code: FaultCode,
    readonly sentence: string,
    readonly fields?: Record<string, string>,
    /** Values to send along the next time, by their field's name. */
    readonly next?: Record<string, string>,
  ) {
    super(sentence);
    this.name = 'Fault';
  }
  /** The HTTP status that goes with the code. */
  get status(): number {
    return STATUS[this.code];
  }
  get value(): FaultValue {
    return {
      code: this.code,
      sentence: this.sentence,
      ...(this.fields ? { fields: this.fields } : {}),
      ...(this.next ? { next: this.next } : {}),
    };
  }
}

/** Any thrown thing as a fault: our own as they are, everything else as "unavailable", without its inner words. */
export function asFault(error: unknown): Fault {
  if (error instanceof Fault) return error;
  // An id from an address that is none (SQLSTATE 22P02): whatever was meant, it is not there.
  if ((error as { code?: unknown } | null)?.code === '22P02')
    return new Fault('not-found', 'There is nothing of that name here.');
  return new Fault('unavailable', 'Something on our side did not answer. Nothing was lost; please try again in a minute.');
}

/** What a server action gives back to the screen. */
export type ActionResult<T = undefined> = { ok: true; value: T } | { ok: false; error: FaultValue };
