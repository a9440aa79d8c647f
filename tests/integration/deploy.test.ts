import { execFileSync, spawnSync } from 'node:child_process';
import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { describe, expect, it } from 'vitest';
import { readConfig } from '@/server/config';
import { ROOT } from '../../cli/home';

const folder = join(ROOT, 'deploy');
const there = spawnSync('systemd-analyze', ['--version']).status === 0;
if (!there) console.log('      skipped in part: systemd-analyze is not there to look at the units');

describe('what a real server is set up with', () => {
  it.skipIf(!there)('units that systemd finds nothing wrong with', () => {
    const units = readdirSync(folder).filter((name) => /\.(service|target)$/.test(name));
    expect(units).toHaveLength(6);
    const { stderr, status } = spawnSync('systemd-analyze', ['verify', ...units.map((name) => join(folder, name))], {
      encoding: 'utf8',
    });
    expect(stderr).toBe('');
    expect(status).toBe(0);
  });
  it('a unit for each process, and no other', () => {
    const processes = readdirSync(join(ROOT, 'src/processes')).filter((name) => name !== 'lifecycle.ts');
    for (const name of processes)
      expect(readFileSync(join(folder, `inkset-${name.replace('.ts', '')}.service`), 'utf8')).toContain(`src/processes/${name}`);
  });
  it('an example of settings of which each is one, and with which every process starts', () => {
    const example = readFileSync(join(folder, 'inkset.env.example'), 'utf8');
    const set = Object.fromEntries(
      example
        .split('\n')
        .filter((line) => /^INKSET_/.test(line))
        .map((line) => [line.slice(0, line.indexOf('=')), line.slice(line.indexOf('=') + 1)]),
    );
    const known = readFileSync(join(ROOT, 'src/server/config.ts'), 'utf8');
    for (const name of Object.keys(set)) expect(known, name).toContain(`${name}:`);
    const { INKSET_TLS_KEY: _, INKSET_TLS_CERT: __, ...rest } = set;
    const config = readConfig({ ...rest, INKSET_SECRET: 'x'.repeat(64) });
    expect(config).toMatchObject({ signUp: 'first', allowLoopback: false, mailroomPort: 25, namesPort: 53, mxPort: 25 });
    expect(config.listen).toEqual({ web: '127.0.0.1', edge: '127.0.0.1', mailroom: '0.0.0.0', names: '0.0.0.0' });
    // Every setting that a program reads is told of in the book on running it.
    const told = readFileSync(join(ROOT, 'docs/running.md'), 'utf8');
    for (const [, name] of known.matchAll(/^ {2}(INKSET_[A-Z_]+):/gm)) expect(told, name).toContain(name);
  });
  it('is asked for where nothing is set, and nothing starts', () => {
    const run = spawnSync(process.execPath, ['--import', 'tsx', 'cli/main.ts', 'start'], {
      cwd: ROOT,
      input: '',
      encoding: 'utf8',
      env: {
        PATH: process.env.PATH,
        INKSET_HOME: execFileSync('mktemp', ['-d'], { encoding: 'utf8' }).trim(),
        NODE_ENV: 'production',
      },
    });
    expect(run.status).toBe(1);
    for (const name of [
      'INKSET_WEB_ORIGIN',
      'INKSET_LINK_ORIGIN',
      'INKSET_MAIL_DOMAIN',
      'INKSET_SENDING_ADDRESSES',
      './inkset demo',
    ])
      expect(run.stderr).toContain(name);
  });
});
