import { execFileSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { existsSync, readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { basename, join } from 'node:path';
import { build } from 'esbuild';
import { ROOT } from './home';

const INPUTS = ['src', 'package-lock.json', 'next.config.ts', 'postcss.config.mjs', 'tsconfig.json'];

/** A hash over everything the build reads, so that an unchanged tree is never built twice. */
function fingerprint(): string {
  const hash = createHash('sha256');
  const add = (path: string) => {
    if (statSync(path).isDirectory()) for (const name of readdirSync(path).sort()) add(join(path, name));
    else if (!/\.test\.tsx?$/.test(path)) hash.update(path).update(readFileSync(path));
  };
  for (const input of INPUTS) add(join(ROOT, input));
  return hash.digest('hex');
}

/** Threads that take apart what comes from outside (`server/threads`). */
const THREADS = ['src/server/autosend/reader-thread.ts', 'src/server/delivery/signature-thread.ts'];
const SCRIPTS = ['form.js', ...THREADS.map((path) => basename(path).replace(/ts$/, 'js'))];

/** Bundles what is run from dist/: the scripts for other people's pages, one for each file in src/embed, and the threads. */
export async function buildScripts(): Promise<void> {
  const folder = join(ROOT, 'src/embed');
  await build({
    entryPoints: THREADS.map((path) => join(ROOT, path)),
    outdir: join(ROOT, 'dist'),
    entryNames: '[name]',
    bundle: true,
    platform: 'node',
    format: 'esm',
    target: 'node20',
    // An optional painter of linkedom, which nothing here asks for.
    external: ['canvas'],
    // Packages that were written for require() find it.
    banner: { js: "import { createRequire } from 'node:module'; const require = createRequire(import.meta.url);" },
    logLevel: 'warning',
  });
  await build({
    entryPoints: readdirSync(folder)
      .filter((name) => !name.includes('.test.'))
      .map((name) => join(folder, name)),
    outdir: join(ROOT, 'dist'),
    bundle: true,
    minify: true,
    format: 'iife',
    target: 'es2020',
    logLevel: 'warning',
  });
}

/** Builds the embed script and the web application if anything they read has changed. Returns whether it had to. */
export async function buildAll(say: (text: string) => void): Promise<boolean> {
  const stamp = join(ROOT, '.next', 'inkset-fingerprint');
  const now = fingerprint();
  if (existsSync(stamp) && readFileSync(stamp, 'utf8') === now && SCRIPTS.every((name) => existsSync(join(ROOT, 'dist', name))))
    return false;
  say('Building the application ...');
  await buildScripts();
  try {
    execFileSync(join(ROOT, 'node_modules/.bin/next'), ['build'], {
      cwd: ROOT,
      stdio: ['ignore', 'pipe', 'pipe'],
      env: { ...process.env, NEXT_TELEMETRY_DISABLED: '1' },
    });
  } catch (error) {
    const { stdout, stderr } = error as { stdout: Buffer; stderr: Buffer };
    throw new Error(`next build failed:\n${stdout}\n${stderr}`);
  }
  writeFileSync(stamp, now);
  return true;
}
