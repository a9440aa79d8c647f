import { spawn } from 'node:child_process';
import { openSync, readFileSync } from 'node:fs';
import { connect } from 'node:net';
import { join } from 'node:path';
import { type Home, ROOT, readState, writeState } from './home';
import type { ProcessPlan } from './world';

export type Running = { name: string; pid: number; started: string };
const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms));
const logFile = (home: Home, name: string) => join(home.dir, 'logs', `${name.replace(/ /g, '-')}.log`);

/** The start time of a process as the kernel tells it, so that a re-used process number is not taken for ours. */
function startOf(pid: number): string | null {
  try {
    return readFileSync(`/proc/${pid}/stat`, 'utf8').split(') ')[1]?.split(' ')[19] ?? null;
  } catch {
    return null;
  }
}
const alive = (process_: Running) => startOf(process_.pid) === process_.started;

export const running = (home: Home): Running[] => readState<Running[]>(home, 'processes.json', []).filter(alive);

/** Starts one process of a plan in the background and waits until it answers. Throws with the end of its log if it does not. */
export async function startProcess(home: Home, plan: ProcessPlan): Promise<void> {
  const log = openSync(logFile(home, plan.name), 'a');
  const child = spawn(process.execPath, plan.args, {
    cwd: ROOT,
    detached: true,
    stdio: ['ignore', log, log],
    env: { ...process.env, NODE_ENV: 'production', NEXT_TELEMETRY_DISABLED: '1', ...plan.env },
  });
  child.unref();
  const pid = child.pid ?? 0;
  const entry = { name: plan.name, pid, started: startOf(pid) ?? '' };
  writeState(home, 'processes.json', [...running(home).filter((other) => other.name !== plan.name), entry]);
  for (let waited = 0; waited < 60_000; waited += 100) {
    if (!alive(entry)) break;
    if (await answers(plan.health)) return;
    await pause(100);
  }
  const tail = readFileSync(logFile(home, plan.name), 'utf8').split('\n').slice(-15).join('\n');
  throw new Error(`The process “${plan.name}” did not start. Its log ends:\n${tail}`);
}

async function answers(health: ProcessPlan['health']): Promise<boolean> {
  if (typeof health === 'string')
    return fetch(health).then(
      (response) => response.ok,
      () => false,
    );
  // Port 0: a process that listens nowhere is well when it lives.
  if (health.port === 0) return true;
  return new Promise((resolve) => {
    const socket = connect(health.port, health.host ?? '127.0.0.1', () => {
      socket.destroy();
      resolve(true);
    });
    socket.once('error', () => resolve(false));
  });
}

/** Ends one process by name: asks first, and after 15 s no longer asks. `signal` KILL is for tests of what a crash leaves. */
export async function stopProcess(home: Home, name: string, signal: 'SIGTERM' | 'SIGKILL' = 'SIGTERM'): Promise<void> {
  const entry = running(home).find((process_) => process_.name === name);
  if (!entry) return;
  process.kill(entry.pid, signal);
  for (let waited = 0; alive(entry); waited += 50) {
    if (waited === 15_000) process.kill(entry.pid, 'SIGKILL');
    await pause(50);
  }
  writeState(home, 'processes.json', running(home));
}

/** Ends everything that runs, the last started first. */
export async function stopAll(home: Home): Promise<string[]> {
  const names = running(home).map((entry) => entry.name);
  for (const name of [...names].reverse()) await stopProcess(home, name);
  return names;
}
