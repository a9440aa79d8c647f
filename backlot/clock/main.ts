/*
 * The clock: the world's time, which only moves forward. GET /now gives {offsetMs, version}; GET /now?after=V waits until the version
 * is another one (at most 25 s). POST /advance with ms moves it. The offset survives a restart.
 */
import { asJson, notFound, serve } from '../shell/http';
import { esc, worldPage } from '../shell/page';
import { place, portOf, readJson, writeFileWhole } from '../shell/world';

type State = { offsetMs: number; version: number };
const file = place('clock.json');
const begin = process.env.BACKLOT_CLOCK_START;
const state = readJson<State>(file, { offsetMs: begin ? Date.parse(begin) - Date.now() : 0, version: 1 });
writeFileWhole(file, JSON.stringify(state));
const waiting = new Set<() => void>();

function advance(ms: number): void {
  if (!Number.isFinite(ms) || ms <= 0 || ms > 400 * 86_400_000) return;
  state.offsetMs += Math.round(ms);
  state.version += 1;
  writeFileWhole(file, JSON.stringify(state));
  for (const wake of waiting) wake();
}

const steps: [label: string, ms: number][] = [
  ['1 minute', 60_000],
  ['15 minutes', 900_000],
  ['1 hour', 3_600_000],
  ['6 hours', 21_600_000],
  ['1 day', 86_400_000],
  ['7 days', 604_800_000],
];

serve('clock', portOf('BACKLOT_CLOCK_PORT'), async (ask) => {
  if (ask.path === '/now') {
    if (ask.query.get('after') === String(state.version)) {
      await new Promise<void>((resolve) => {
        const done = () => {
          clearTimeout(timer);
          waiting.delete(done);
          resolve();
        };
        const timer = setTimeout(done, 25_000);
        waiting.add(done);
      });
    }
    return asJson(state);
  }
  if (ask.path === '/advance' && ask.method === 'POST') {
    const json = (ask.headers['content-type'] ?? '').includes('json');
    advance(Number(json ? JSON.parse(ask.body).ms : ask.fields.get('ms')));
    return json ? asJson(state) : { seeOther: '/' };
  }
  if (ask.path !== '/') return notFound;
  const now = new Date(Date.now() + state.offsetMs);
  const buttons = steps.map(([label, ms]) => `<button name="ms" value="${ms}">Forward ${esc(label)}</button>`).join(' ');
  return {
    body: worldPage(
      'The clock',
      'Clock',
      `<h1>${esc(now.toUTCString())}</h1><p>This is the time that Inkset and the rest of this world go by. It can only be moved forward.</p><form method="post" action="/advance">${buttons}</form>`,
    ),
  };
});
