import { spawn } from 'node:child_process';
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { ROOT } from './home';
import { pickPort } from './ports';

export type DnsHost = {
  port: number;
  put(domain: string, zone: string): Promise<void>;
  mood(name: string): Promise<void>;
  close(): void;
};

/** The Backlot's DNS host alone, as a process with a folder of its own: for tests and measurements of real look-ups. */
export async function startDnsHost(): Promise<DnsHost> {
  const dir = mkdtempSync(join(tmpdir(), 'inkset-dns-'));
  const taken = new Set<number>();
  const port = await pickPort(4753, taken);
  const page = await pickPort(4771, taken);
  const env = {
    ...process.env,
    BACKLOT_DIR: dir,
    BACKLOT_DNS_PORT: String(port),
    BACKLOT_DNS_PAGE_PORT: String(page),
    BACKLOT_CLOCK_PORT: '1',
  };
  const child = spawn(process.execPath, ['--import', 'tsx', 'backlot/dns/main.ts'], { cwd: ROOT, env, stdio: 'ignore' });
  const at = (path: string) => `http://127.0.0.1:${page}${path}`;
  const up = () =>
    fetch(at('/healthz')).then(
      (response) => response.ok,
      () => false,
    );
  for (let tries = 0; !(await up()); tries += 1) {
    if (tries > 400) throw new Error('The DNS host did not start.');
    await new Promise((resolve) => setTimeout(resolve, 50));
  }
  return {
    port,
    async put(domain, zone) {
      await fetch(at(`/api/${domain}`), { method: 'PUT', body: zone });
    },
    async mood(name) {
      await fetch(at('/mood'), { method: 'POST', body: new URLSearchParams({ mood: name }) });
    },
    close() {
      child.kill();
      rmSync(dir, { recursive: true, force: true });
    },
  };
}
