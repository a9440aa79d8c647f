import { spawnSync } from 'node:child_process';
import { existsSync } from 'node:fs';
import { serverPrograms } from './postgres';

export const CHROMIUM = '/usr/bin/chromium';
/** What a headless browser is started with: as root, without a screen, and without looking for anything outside. */
export const BROWSER_FLAGS = [
  '--no-sandbox',
  '--disable-gpu',
  '--disable-background-networking',
  '--disable-component-update',
  '--disable-sync',
  '--no-first-run',
  '--disable-quic',
];
type Need = { what: string; there: () => boolean; packages: string[]; mend: string };

export const NEEDS: Record<'postgresql' | 'chromium', Need> = {
  postgresql: {
    what: 'PostgreSQL',
    there: () => serverPrograms() !== null,
    packages: ['postgresql'],
    mend: 'apt-get install postgresql',
  },
  chromium: {
    what: 'Chromium',
    there: () => existsSync(CHROMIUM),
    packages: ['chromium', 'fonts-dejavu-core'],
    mend: 'apt-get install chromium',
  },
};

/** Installs from Debian's packages what is missing, if we may; else says exactly what to run. */
export function ensure(names: (keyof typeof NEEDS)[], say: (text: string) => void): void {
  const missing = names.map((name) => NEEDS[name]).filter((need) => !need.there());
  if (missing.length === 0) return;
  const packages = missing.flatMap((need) => need.packages);
  const command = `apt-get update && apt-get install -y --no-install-recommends ${packages.join(' ')}`;
  if (process.getuid?.() !== 0)
    throw new Error(`${missing.map((need) => need.what).join(' and ')} is missing. Run as root: ${command}`);
  say(`Installing ${missing.map((need) => need.what).join(' and ')} from Debian's packages ...`);
  // Debian would start a cluster of its own beside ours; this keeps it from making one.
  const quiet =
    'mkdir -p /etc/postgresql-common && (test -f /etc/postgresql-common/createcluster.conf || echo "create_main_cluster = false" > /etc/postgresql-common/createcluster.conf)';
  const run = spawnSync('bash', ['-c', `${quiet} && ${command}`], {
    encoding: 'utf8',
    env: { ...process.env, DEBIAN_FRONTEND: 'noninteractive' },
  });
  const still = missing.filter((need) => !need.there());
  if (run.status !== 0 || still.length)
    throw new Error(
      `Could not install ${packages.join(' ')}. Run it by hand: ${command}\n${run.stderr.split('\n').slice(-6).join('\n')}`,
    );
}
