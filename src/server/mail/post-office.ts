import type { Context } from '../context';
import { isAway, isTransient } from '../db/connection';
import { openLine } from './lines';
import type { Ending, Parcel, Result, Source } from './parcels';
import {
  afterMet,
  dropLanes,
  isWorthSaying,
  type Met,
  metNothing,
  type Route,
  routesWithLetters,
  saveMet,
  takeLanes,
} from './routes';
import { LineDown, type MailLine } from './smtp';

/** How many lanes a worker has at once. Ways that are not known to work have their own, so that those that work always find room; what waits long counts no more. */
const SLOTS = { sound: 60, doubtful: 150 };
const EXPRESS_SLOTS = { sound: 40, doubtful: 200 };
const MOST_SLOW = 600;
const SLOW_MS = 15_000;
/** Lanes beyond a route's window for mails that somebody waits for. */
const EXPRESS_BEYOND = 2;
const PER_LANE = 10;
const MOST_EXPRESS_PER_ROUTE = 50;
const LINGER_MS = 1_000;
const BEAT_MS = 200;
const RECHECK_MS = 2_000;
const GRACE_MS = 10_000;
const MOST_AT_ONCE = 250;
/** A mail at which a fresh connection broke off lets others go first: it may be the mail. After so many of them in a row it is the way. */
const BROKE_WAIT_MS = 5 * 60_000;
const MOST_BROKEN = 10;
/** How long a mail that must not go in the clear waits for a host that is met in the clear. */
const CLEAR_WAIT_MS = 30 * 60_000;

const now = () => performance.now();
const pause = (ms: number) => new Promise<void>((resolve) => setTimeout(resolve, ms));

type Lane = { line: MailLine | null; express: boolean; sound: boolean; recorded: Promise<void>; openingSince: number };
type Station = {
  route: Route;
  lanes: Set<Lane>;
  express: Parcel[];
  letters: Parcel[];
  /** No more letters were due at the last claim. */
  dry: boolean;
  closed: boolean;
  met: Met;
  /** Fresh connections in a row that broke off at a mail. */
  broken: number;
  sent: number[];
  nextAt: number;
  idle: Set<() => void>;
};

export type Express = Source & { waiting(): Promise<{ routeId: number; count: number }[]> };

/**
 * One worker's post office: everything that leaves, leaves here. It takes lanes on routes (a lane is a connection, and a route's window is shared by all
 * workers), claims mails for the lanes it holds, and hands them over: what somebody waits for before letters, on lanes of their own where there are none.
 * Each result is written as it happens; a lane ends its next mail only when the last one's result is durable, so that a worker that dies leaves at
 * most as many in doubt as it had connections. Nothing that happens on one route holds another up.
 */
export class PostOffice {
  readonly #stations = new Map<number, Station>();
  readonly #results: { result: Result; written: () => void }[] = [];
  readonly #drops = new Map<number, number>();
  readonly #inHand = new Map<Source, Map<string, Parcel>>();
  #writing: Promise<void> | null = null;
  #pumping: Promise<void> | null = null;
  #again = false;
  #sweeping = false;
  #stopping = false;
  #timers: NodeJS.Timeout[] = [];
  #finding: Promise<unknown> | null = null;
  #worked = 0;

  constructor(
    private readonly ctx: Context,
    private readonly workerId: string,
    private readonly mails: Express,
    private readonly letters: Source,
    /** Finds the routes of domains that mail waits for; says each time that it found some. */
    private readonly findRoutes: (found: () => void) => Promise<void>,
  ) {}

  /** Looks for work five times a second until it is stopped. */
  start(): void {
    this.#timers = [
      setInterval(() => void this.look(), BEAT_MS),
      setInterval(() => this.sweep(), 30_000),
      setInterval(() => this.#quietMinute(), 60_000),
    ];
    void this.look();
  }

  /** Looks for due work now. Never rejects. */
  look(): Promise<void> {
    if (this.#pumping) {
      this.#again = true;
      return this.#pumping;
    }
    this.#pumping = this.#pump()
      .catch((error) => {
        if (isAway(error)) this.ctx.log.warn('the database is away; mail goes on when it is back');
        else this.ctx.log.error({ err: error }, 'looking for mail failed');
      })
      .finally(() => {
        this.#pumping = null;
        if (this.#again && !this.#stopping) {
          this.#again = false;
          void this.look();
        }
      });
    return this.#pumping;
  }

  /** Works until nothing is due any more. For tests and measurements, which move the clock themselves. Returns how many mails were handed over or tried. */
  async settle(): Promise<number> {
    const before = this.#worked;
    for (let quiet = 0; quiet < 2; ) {
      const at = this.#worked;
      await this.#find();
      await this.look();
      while (this.#stations.size) {
        await pause(1);
        if (
          !this.#pumping &&
          [...this.#stations.values()].every((station) => station.letters.length + station.express.length === 0)
        )
          await this.look();
      }
      await this.#flushed();
      await this.#giveBack();
      quiet = this.#worked === at ? quiet + 1 : 0;
    }
    return this.#worked - before;
  }

  /** Takes nothing new, lets what is on the wire end for a while, gives the rest back. */
  async stop(): Promise<void> {
    this.#stopping = true;
    for (const timer of this.#timers) clearInterval(timer);
    await this.#pumping;
    const untried = [...this.#stations.values()].flatMap((station) => [
      ...station.express.splice(0),
      ...station.letters.splice(0),
    ]);
    for (const parcel of untried) void this.#record(parcel, { kind: 'put back', reason: null, waitMs: 0 });
    for (const station of this.#stations.values()) for (const wake of station.idle) wake();
    const end = now() + GRACE_MS;
    while (this.#stations.size && now() < end) await pause(20);
    await this.#flushed();
    await this.#giveBack();
  }

  /** The lanes it holds on each route, to be said again after the database forgot them. */
  held(): Map<number, number> {
    return new Map([...this.#stations].map(([id, station]) => [id, station.lanes.size]));
  }

  async #pump(): Promise<void> {
    if (this.#stopping) return;
    await this.#giveBack();
    await this.#sweep();
    await this.#takeExpress();
    await this.#openForLetters();
    await this.#fill();
    void this.#find();
  }

  #find(): Promise<unknown> {
    this.#finding ??= this.findRoutes(() => {
      if (!this.#stopping) void this.look();
    })
      .catch((error) => this.ctx.log.warn({ reason: (error as Error).message }, 'routes could not be looked up'))
      .finally(() => {
        this.#finding = null;
      });
    return this.#finding;
  }

  /** Lanes in use of a kind: those that have waited long for an answer count no more, since waiting costs nothing. */
  #used(express: boolean, sound: boolean): number {
    let used = 0;
    for (const station of this.#stations.values())
      for (const lane of station.lanes) if (lane.express === express && lane.sound === sound && !isSlow(lane)) used += 1;
    return used;
  }
  #slow(): number {
    let slow = 0;
    for (const station of this.#stations.values()) for (const lane of station.lanes) if (isSlow(lane)) slow += 1;
    return slow;
  }

  /** Mails that somebody waits for: claimed for routes on which a lane is or can be opened. */
  async #takeExpress(): Promise<void> {
    const waiting = await this.mails.waiting();
    if (waiting.length === 0) return;
    const needs = waiting.filter(({ routeId }) => {
      const station = this.#stations.get(routeId);
      return !station || [...station.lanes].every((lane) => isSlow(lane, 1_000));
    });
    const free =
      this.#slow() < MOST_SLOW
        ? EXPRESS_SLOTS.sound + EXPRESS_SLOTS.doubtful - this.#used(true, true) - this.#used(true, false)
        : 0;
    const wishes = needs
      .slice(0, Math.max(0, free))
      .map(({ routeId, count }) => ({ routeId, lanes: Math.min(3, Math.ceil(count / 5)) }));
    for (const route of await takeLanes(this.ctx, this.workerId, wishes, EXPRESS_BEYOND)) {
      const most = EXPRESS_SLOTS[route.proven ? 'sound' : 'doubtful'] - this.#used(true, route.proven);
      this.#open(route, Math.min(route.granted, Math.max(0, most)), route.granted, true);
    }
    const wants = waiting
      .filter(({ routeId }) => [...(this.#stations.get(routeId)?.lanes ?? [])].some((lane) => !isSlow(lane, 1_000)))
      .map(({ routeId, count }) => ({
        routeId,
        room: Math.min(count, MOST_EXPRESS_PER_ROUTE - this.#stations.get(routeId)!.express.length),
      }))
      .filter(({ room }) => room > 0);
    if (wants.length === 0) return;
    for (const parcel of await this.mails.claim(wants)) this.#take(parcel, 'express');
  }

  async #openForLetters(): Promise<void> {
    const free = { true: SLOTS.sound - this.#used(false, true), false: SLOTS.doubtful - this.#used(false, false) };
    if (free.true <= 0 && free.false <= 0) return;
    if (this.#slow() >= MOST_SLOW) return;
    const candidates = await routesWithLetters(this.ctx, SLOTS.sound + SLOTS.doubtful);
    if (candidates.length === 0) return;
    const share = Math.max(1, Math.floor(SLOTS.sound / candidates.length));
    const wishes = candidates
      .filter(({ routeId, proven }) => {
        const station = this.#stations.get(routeId);
        // One that ran dry a moment ago is left to end first; a further lane is for what its lanes cannot keep up with.
        return !(station?.dry && station.letters.length === 0 && station.lanes.size > 0) && free[`${proven}`] > 0;
      })
      .map(({ routeId, room, proven }) => {
        const lanes = Math.max(0, Math.min(room, share, free[`${proven}`]));
        free[`${proven}`] -= lanes;
        return { routeId, lanes };
      })
      .filter(({ lanes }) => lanes > 0);
    for (const route of await takeLanes(this.ctx, this.workerId, wishes)) this.#open(route, route.granted, route.granted, false);
  }

  /** Opens lanes on a route; what was granted beyond is given back. */
  #open(route: Route, lanes: number, granted: number, express: boolean): void {
    if (granted > lanes) this.#drops.set(route.id, (this.#drops.get(route.id) ?? 0) + granted - lanes);
    if (lanes === 0) return;
    let station = this.#stations.get(route.id);
    if (!station) {
      station = {
        route,
        lanes: new Set(),
        express: [],
        letters: [],
        dry: false,
        closed: false,
        met: metNothing(),
        broken: 0,
        sent: [],
        nextAt: 0,
        idle: new Set(),
      };
      this.#stations.set(route.id, station);
    } else {
      station.route = route;
      station.closed = false;
    }
    if (!express) station.dry = false;
    for (let n = 0; n < lanes; n += 1) {
      const lane: Lane = { line: null, express, sound: route.proven, recorded: Promise.resolve(), openingSince: 0 };
      station.lanes.add(lane);
      void this.#run(station, lane);
    }
  }

  /** Claims letters for routes whose lanes will soon have none left. */
  async #fill(): Promise<void> {
    const wants = [...this.#stations.values()]
      .filter(
        (station) =>
          !station.dry &&
          !station.closed &&
          station.lanes.size > 0 &&
          station.letters.length < station.lanes.size * (PER_LANE / 2),
      )
      .map((station) => ({
        routeId: station.route.id,
        room: Math.min(PER_LANE * station.lanes.size - station.letters.length, MOST_AT_ONCE),
      }));
    if (wants.length === 0) return;
    const parcels = await this.letters.claim(wants);
    const got = new Map<number, number>();
    for (const parcel of parcels) {
      got.set(parcel.routeId, (got.get(parcel.routeId) ?? 0) + 1);
      this.#take(parcel, 'letters');
    }
    for (const { routeId, room } of wants) {
      const station = this.#stations.get(routeId);
      if (station && (got.get(routeId) ?? 0) < room) station.dry = true;
      if (station) for (const wake of station.idle) wake();
    }
  }

  #take(parcel: Parcel, queue: 'express' | 'letters'): void {
    const mine = this.#inHand.get(parcel.source) ?? new Map<string, Parcel>();
    this.#inHand.set(parcel.source, mine.set(parcel.id, parcel));
    const station = this.#stations.get(parcel.routeId);
    // Its lanes ended while it was being claimed.
    if (!station || station.closed || this.#stopping)
      return void this.#record(parcel, { kind: 'put back', reason: null, waitMs: 0 });
    station[queue].push(parcel);
    for (const wake of station.idle) wake();
  }

  async #run(station: Station, lane: Lane): Promise<void> {
    try {
      for (;;) {
        const parcel = station.express.shift() ?? (station.closed ? undefined : station.letters.shift());
        if (parcel) {
          if (!station.dry && station.letters.length < station.lanes.size * (PER_LANE / 2)) void this.look();
          if (!(await this.#handOver(station, lane, parcel))) break;
          continue;
        }
        if (this.#stopping || station.closed || !(await this.#idle(station))) break;
      }
    } catch (error) {
      this.ctx.log.error({ err: error }, 'a lane ended');
    }
    lane.line?.close();
    await lane.recorded;
    station.lanes.delete(lane);
    this.#drops.set(station.route.id, (this.#drops.get(station.route.id) ?? 0) + 1);
    if (station.lanes.size > 0) return;
    // What this last lane met is said before anybody can open another; nobody is left to take what still lies here.
    await this.#say([station]);
    if (station.lanes.size > 0) return;
    this.#clear(station, null);
    if (this.#stations.get(station.route.id) === station) this.#stations.delete(station.route.id);
  }

  /** Waits a moment for more; false when none came. While other routes wait for a slot nobody lingers. */
  #idle(station: Station): Promise<boolean> {
    const crowded = this.#used(false, true) >= SLOTS.sound * 0.8 || this.#used(false, false) >= SLOTS.doubtful * 0.8;
    const linger = station.dry ? (crowded || this.#timers.length === 0 ? 0 : LINGER_MS) : LINGER_MS;
    if (linger === 0) return Promise.resolve(false);
    return new Promise((resolve) => {
      const end = (more: boolean) => {
        clearTimeout(timer);
        station.idle.delete(wake);
        resolve(more);
      };
      const wake = () => end(station.express.length > 0 || station.letters.length > 0 || (!station.dry && !this.#stopping));
      const timer = setTimeout(() => end(false), linger);
      station.idle.add(wake);
    });
  }

  /** Hands one parcel over on a lane. False when the lane should end. */
  async #handOver(station: Station, lane: Lane, parcel: Parcel): Promise<boolean> {
    await this.#keepPace(station);
    if (now() - parcel.claimedAt > RECHECK_MS && !(await this.#mayGo(parcel))) return true;
    this.#worked += 1;
    let made: Awaited<ReturnType<Source['make']>>;
    try {
      made = await parcel.source.make(parcel);
    } catch (error) {
      // Not the way and not the mailbox: something of ours. The mail waits, and the log says what happened.
      this.ctx.log.error({ err: error, mail: parcel.id }, 'a mail could not be made');
      this.#record(parcel, { kind: 'fault', response: `Something on our side failed: ${(error as Error).message}` });
      return true;
    }
    try {
      if (!lane.line?.usable) {
        lane.line = null;
        lane.openingSince = now();
        lane.line = await openLine(this.ctx, station.route);
        lane.openingSince = 0;
      }
    } catch (error) {
      return this.#lineFailed(station, lane, parcel, error);
    }
    const { line } = lane;
    if (parcel.encrypted && !line.encrypted) {
      this.#record(parcel, {
        kind: 'put back',
        reason: `${line.target.host} offers no encryption that works`,
        waitMs: CLEAR_WAIT_MS,
      });
      return true;
    }
    try {
      const outcome = await line.send(made.envelope, made.message, lane.recorded);
      station.met.good += 1;
      station.broken = 0;
      if (station.sent.push(now()) > 20_000) station.sent.splice(0, 10_000);
      if (outcome.kind === 'later' && outcome.slow) {
        station.met.slow = outcome.response;
        station.met.lastMinute = lastMinute(station);
        this.#record(parcel, { kind: 'put back', reason: outcome.response, waitMs: 60_000 });
        return true;
      }
      lane.recorded = this.#record(parcel, outcome);
      if (station.route.way.mailsALine !== null && line.taken >= Math.floor(station.route.way.mailsALine)) {
        line.close();
        lane.line = null;
      }
      return true;
    } catch (error) {
      return this.#lineFailed(station, lane, parcel, error);
    }
  }

  /** A line could not be opened, or broke. False when the lane should end. */
  #lineFailed(station: Station, lane: Lane, parcel: Parcel, error: unknown): boolean {
    const line = lane.line;
    lane.line = null;
    lane.openingSince = 0;
    if (!(error instanceof LineDown)) {
      this.ctx.log.error({ err: error, mail: parcel.id }, 'a mail could not be handed over');
      this.#record(parcel, { kind: 'fault', response: `Something on our side failed: ${(error as Error).message}` });
      return true;
    }
    if (error.inDoubt) {
      station.met.failures.push(error.message);
      lane.recorded = this.#record(parcel, { kind: 'in doubt', response: error.message });
      return false;
    }
    if (line && line.taken > 0 && (error.code === 421 || /closed the connection/.test(error.message))) {
      // It has had enough of this connection. The mail was not tried; it goes on a new one.
      station.met.fullAt = Math.min(station.met.fullAt ?? Number.POSITIVE_INFINITY, line.taken);
      this.#again = true;
      this.#first(station, parcel);
      return true;
    }
    const open = [...station.lanes].filter((other) => other !== lane && other.line?.usable).length;
    const turnedAway =
      error.step === 'send'
        ? error.code === 421
        : ['greeting', 'hello'].includes(error.step) || /refused|closed/.test(error.message);
    if (open > 0 && turnedAway && (!line || line.taken === 0)) {
      // Others are being served: it takes so many at once and no more.
      station.met.refusedAt = Math.min(station.met.refusedAt ?? Number.POSITIVE_INFINITY, open);
      this.#first(station, parcel);
      this.#say([station]);
      return false;
    }
    const broke = error.step === 'send' && error.code === 0 && /closed the connection/.test(error.message);
    if (broke && station.broken < MOST_BROKEN) {
      station.broken += 1;
      this.#record(parcel, { kind: 'put back', reason: error.message, waitMs: BROKE_WAIT_MS });
      return true;
    }
    station.met.failures.push(error.message);
    this.#record(parcel, { kind: 'put back', reason: error.message, waitMs: broke ? BROKE_WAIT_MS : 0 });
    return false;
  }

  /** Lays a mail that was not tried back where it came from, before the others. */
  #first(station: Station, parcel: Parcel): void {
    (parcel.source === this.mails ? station.express : station.letters).unshift(parcel);
  }

  /** Keeps the pace that a route asked for. */
  async #keepPace(station: Station): Promise<void> {
    const { perMinute } = station.route.way;
    if (perMinute === null) return;
    const at = Math.max(now(), station.nextAt);
    station.nextAt = at + 60_000 / perMinute;
    if (at > now()) await pause(Math.min(30_000, at - now()));
  }

  /** Asks for a mail once more; one that is not wanted any more, or cannot be asked for, goes back as its row says. */
  async #mayGo(parcel: Parcel): Promise<boolean> {
    const wanted = await parcel.source.stillWanted(parcel).catch(() => false);
    if (!wanted) this.#record(parcel, { kind: 'put back', reason: null, waitMs: 0 });
    return wanted;
  }

  /** Lays all that waits at a station back. */
  #clear(station: Station, reason: string | null): void {
    for (const parcel of [...station.express.splice(0), ...station.letters.splice(0)])
      this.#record(parcel, { kind: 'put back', reason, waitMs: 0 });
  }

  /** Resolves once the result is durable. */
  #record(parcel: Parcel, ending: Ending): Promise<void> {
    return new Promise((written) => {
      this.#results.push({ result: { parcel, ending }, written });
      this.#writing ??= this.#write().finally(() => {
        this.#writing = null;
        if (this.#results.length) void this.#flushed();
      });
    });
  }
  async #flushed(): Promise<void> {
    while (this.#results.length || this.#writing) {
      this.#writing ??= this.#write().finally(() => {
        this.#writing = null;
      });
      await this.#writing;
    }
  }

  /** Writes results in the groups in which they came while the last group was being written. */
  async #write(): Promise<void> {
    while (this.#results.length) {
      const batch = this.#results.splice(0, MOST_AT_ONCE);
      const bySource = new Map<Source, Result[]>();
      for (const { result } of batch) {
        const same = bySource.get(result.parcel.source) ?? [];
        bySource.set(result.parcel.source, same);
        same.push(result);
      }
      for (const [source, results] of bySource) {
        await this.#keep(source, results);
        for (const { parcel } of results) this.#inHand.get(source)?.delete(parcel.id);
      }
      for (const { written } of batch) written();
      await this.#say([...this.#stations.values()]);
    }
  }

  /** Keeps results whatever happens: waits for the database, tries again where two got in each other's way, and sets aside what cannot be written. */
  async #keep(source: Source, results: Result[]): Promise<void> {
    for (let tries = 0; ; tries += 1) {
      try {
        return await source.record(results);
      } catch (error) {
        if (isAway(error)) await pause(Math.min(2_000, 50 * 2 ** Math.min(tries, 6)));
        else if (isTransient(error) && tries < 20) await pause(Math.random() * 20 * (tries + 1));
        else if (results.length > 1) {
          const half = Math.ceil(results.length / 2);
          await this.#keep(source, results.slice(0, half));
          return this.#keep(source, results.slice(half));
        } else {
          this.ctx.log.error({ err: error, mail: results[0]!.parcel.id }, 'a result could not be written; the mail is set aside');
          return source.setAside(results[0]!.parcel, (error as Error).message).catch(() => {});
        }
      }
    }
  }

  /** Says what was met on routes where that changes anything; a route that is to rest gets no more from here. */
  async #say(stations: Station[]): Promise<void> {
    const at = this.ctx.clock.now();
    const all = new Map<number, Met>();
    for (const station of stations) {
      if (!isWorthSaying(station.route, station.met, at)) {
        station.met = metNothing();
        continue;
      }
      const nothing = station.met.good === 0 && afterMet(station.route.way, station.met, at) === station.route.way;
      if (nothing) continue;
      all.set(station.route.id, station.met);
      station.met = metNothing();
    }
    if (all.size === 0) return;
    const routes = await saveMet(this.ctx, all).catch((error) => {
      this.ctx.log.warn({ reason: (error as Error).message }, 'what was met on a route could not be kept');
      return [];
    });
    for (const route of routes) {
      const station = this.#stations.get(route.id);
      if (!station) continue;
      station.route = route;
      if (route.way.pausedUntil && route.way.pausedUntil > at) {
        if (!station.closed) this.ctx.log.warn({ route: route.name, reason: route.way.pausedFor }, 'a route rests');
        station.closed = true;
        this.#clear(station, route.way.pausedFor);
        for (const wake of station.idle) wake();
      }
    }
  }

  async #giveBack(): Promise<void> {
    const drops = [...this.#drops].map(([routeId, lanes]) => ({ routeId, lanes }));
    if (drops.length === 0) return;
    this.#drops.clear();
    try {
      await dropLanes(this.ctx, this.workerId, drops);
    } catch (error) {
      for (const { routeId, lanes } of drops) this.#drops.set(routeId, (this.#drops.get(routeId) ?? 0) + lanes);
      throw error;
    }
  }

  /** Has claims given back, before the next look for work, on which nobody works. */
  sweep(): void {
    this.#sweeping = true;
  }

  /** Nothing stays claimed by a worker that does not work on it. Never while it claims: what was just claimed is not in hand yet. */
  async #sweep(): Promise<void> {
    if (!this.#sweeping) return;
    this.#sweeping = false;
    for (const source of [this.mails, this.letters]) {
      const lost = await source.reclaim([...(this.#inHand.get(source)?.keys() ?? [])]);
      if (lost) this.ctx.log.warn({ mails: lost }, 'claims without anybody working on them were given back');
    }
  }

  #quietMinute(): void {
    for (const station of this.#stations.values()) station.met.quietMinute = station.route.way.perMinute !== null;
  }
}

/** Has a lane waited so long for an answer of the other side? */
function isSlow(lane: Lane, ms = SLOW_MS): boolean {
  const since = lane.openingSince || lane.line?.waitingSince || 0;
  return since > 0 && now() - since > ms;
}

function lastMinute(station: Station): number {
  const since = now() - 60_000;
  while (station.sent.length && station.sent[0]! < since) station.sent.shift();
  return station.sent.length;
}
