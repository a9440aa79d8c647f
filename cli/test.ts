import { spawn } from 'node:child_process';
import { mkdirSync, readdirSync, readFileSync, rmSync } from 'node:fs';
import { join, relative } from 'node:path';
import { ROOT } from './home';
import { ensure } from './machine';

type Check = { name: string; args: string[] };

/** What holds the house together besides its tests; each counts as one. */
const CHECKS: Check[] = [
  { name: 'format and lint', args: ['biome', 'check', '--error-on-warnings', '.'] },
  { name: 'types', args: ['tsc', '--noEmit'] },
  { name: 'layers', args: ['depcruise', 'src', 'backlot', 'demo', 'cli', 'bench', '--config', '.dependency-cruiser.cjs'] },
  { name: 'nothing dead', args: ['knip', '--no-config-hints'] },
];

function run(args: string[]): Promise<{ code: number; output: string }> {
  const [program = '', ...rest] = args;
  const child = spawn(join(ROOT, 'node_modules/.bin', program), rest, { cwd: ROOT, stdio: ['ignore', 'pipe', 'pipe'] });
  let output = '';
  child.stdout.on('data', (chunk) => {
    output += chunk;
  });
  child.stderr.on('data', (chunk) => {
    output += chunk;
  });
  return new Promise((resolve) => child.on('close', (code) => resolve({ code: code ?? 1, output })));
}

type Counts = { passed: number; failed: number; faults: string[] };
/** What is read of Vitest's own report. */
type Report = {
  numPassedTests: number;
  numFailedTests: number;
  testResults: {
    name: string;
    message: string;
    assertionResults: { fullName: string; status: string; failureMessages: string[] }[];
  }[];
};
const MOST_OF_A_FAULT = 2_000;

/** Runs some of Vitest's projects and counts from its own report, so that a run that dies counts as failed. */
async function suite(projects: string[], words: string[], more: string[] = []): Promise<Counts> {
  const report = join(ROOT, '.inkset-test', `report-${projects.join('-')}.json`);
  rmSync(report, { force: true });
  mkdirSync(join(ROOT, '.inkset-test'), { recursive: true });
  const args = [
    'run',
    ...projects.flatMap((name) => ['--project', name]),
    '--reporter=default',
    '--reporter=json',
    `--outputFile.json=${report}`,
  ];
  const child = spawn(join(ROOT, 'node_modules/.bin/vitest'), [...args, ...more, ...words], {
    cwd: ROOT,
    stdio: ['ignore', 'inherit', 'inherit'],
  });
  const code = await new Promise<number>((resolve) => child.on('close', (status) => resolve(status ?? 1)));
  try {
    const { numPassedTests: passed, numFailedTests: failed, testResults } = JSON.parse(readFileSync(report, 'utf8')) as Report;
    const faults = testResults.flatMap(({ name, message, assertionResults }) => [
      ...(message ? [`${relative(ROOT, name)}: ${message}`] : []),
      ...assertionResults
        .filter(({ status }) => status === 'failed')
        .map(
          ({ fullName, failureMessages }) =>
            `${relative(ROOT, name)}: ${fullName}\n${failureMessages.join('\n').replace(/\n[^\n]*node_modules[^\n]*/g, '')}`,
        ),
    ]);
    return { passed, failed: failed === 0 && code !== 0 ? 1 : failed, faults };
  } catch (error) {
    return { passed: 0, failed: 1, faults: [`${projects.join(', ')}: no report: ${(error as Error).message}`] };
  }
}

/** The paths of all test files, from the root. */
const testFiles = (): string[] =>
  ['src', 'demo', 'cli', 'tests'].flatMap((folder) =>
    readdirSync(join(ROOT, folder), { recursive: true, encoding: 'utf8' })
      .filter((name) => /\.test\.tsx?$/.test(name))
      .map((name) => `${folder}/${name}`),
  );

/**
 * All checks and tests. The last line is `N passed, N failed`; the exit code is 1 if anything failed or nothing ran.
 * With words, only what matches is run, and no checks, for use while working: the test files whose path holds one of them, or where there are none
 * the tests whose names do; PostgreSQL and a browser only where those need them. `--peers` meets real mail servers
 * from Debian's packages instead, unpacked under /var/tmp.
 */
export async function test(words: string[]): Promise<void> {
  const named = words.filter((word) => !word.startsWith('--'));
  const files = named.length
    ? testFiles().filter((file) => named.some((word) => file.slice(file.indexOf('/')).includes(word)))
    : [];
  // No path holds the word: then the tests whose names do, looked for only in the files that speak of it.
  const byName = named.length > 0 && files.length === 0;
  if (byName)
    files.push(...testFiles().filter((file) => named.some((word) => readFileSync(join(ROOT, file), 'utf8').includes(word))));
  if (byName && files.length === 0 && !words.includes('--peers'))
    throw new Error(`No test is called “${named.join(' ')}”, and no file of tests.`);
  const unit = files.length > 0 && files.every((file) => file.startsWith('src/') || file.startsWith('demo/'));
  if (!unit) ensure(['postgresql', 'chromium'], (text) => console.log(text));
  const total: Counts = { passed: 0, failed: 0, faults: [] };
  const peers = words.includes('--peers');
  if (words.length === 0) {
    for (const check of CHECKS) {
      const { code, output } = await run(check.args);
      console.log(`${code === 0 ? 'ok  ' : 'FAIL'} ${check.name}`);
      if (code !== 0) console.log(output);
      total[code === 0 ? 'passed' : 'failed'] += 1;
      if (code !== 0) total.faults.push(`${check.name}:\n${output}`);
    }
  }
  // The browser's tests come last and alone: they want the machine for themselves.
  const some = unit ? [['unit']] : named.length ? [['unit', 'integration', 'e2e']] : [['unit', 'integration'], ['e2e']];
  for (const projects of peers ? [['peers']] : some) {
    const { passed, failed, faults } = await suite(
      projects,
      files,
      byName ? ['-t', named.map((word) => word.replace(/[.*+?^${}()|[\]\\]/g, '\\$&')).join('|')] : [],
    );
    total.passed += passed;
    total.failed += failed;
    total.faults.push(...faults);
  }
  // Once more at the end, since of a long run the end alone may be kept.
  for (const fault of total.faults) console.log(`FAIL ${fault.slice(0, MOST_OF_A_FAULT)}\n`);
  console.log(`${total.passed} passed, ${total.failed} failed`);
  process.exitCode = total.failed > 0 || total.passed === 0 ? 1 : 0;
}
