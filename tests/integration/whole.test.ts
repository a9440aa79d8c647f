import { createHash } from 'node:crypto';
import { readFileSync } from 'node:fs';
import { sql } from 'kysely';
import { simpleParser } from 'mailparser';
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it } from 'vitest';
import { fromBuffer } from 'yauzl';
import { ZipFile } from 'yazl';
import { renamer } from '@/core/archive/newsletter';
import { SHEETS } from '@/core/archive/sheets';
import { inTransaction } from '@/server/db/connection';
import { housekeeping, recount } from '@/server/jobs/tick';
import { eraseReaders } from '@/server/keeping/erase';
import { openNewsletter } from '@/server/newsletters/newsletters';
import { suppressedAmong } from '@/server/readers/suppressed';
import { exportFile, exportsOf, startWhole, stopExport, workExport } from '@/server/transfer/exports';
import { beginRestore, bringBack, dropAsking, restorePage, workRestore } from '@/server/transfer/whole-in';
import { live } from './lived';
import { DAY, TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
const open = async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
};
const close = () => world.close();

const WRITER = { name: 'Ottoline Vance', email: 'ottoline@postbird.example' };
const BY = { actor: 'member' as const, name: 'Ottoline Vance' };

type Files = Map<string, Buffer>;
async function unzip(bytes: Buffer): Promise<Files> {
  const files: Files = new Map();
  await new Promise<void>((resolve, reject) =>
    fromBuffer(bytes, { lazyEntries: true }, (error, zip) => {
      if (!zip) return reject(error);
      zip.on('end', resolve).on('error', reject);
      zip.on('entry', (entry) =>
        zip.openReadStream(entry, async (failed, stream) => {
          if (!stream) return reject(failed);
          const pieces: Buffer[] = [];
          for await (const piece of stream) pieces.push(piece as Buffer);
          files.set(entry.fileName, Buffer.concat(pieces));
          zip.readEntry();
        }),
      );
      zip.readEntry();
    }),
  );
  return files;
}
async function zipped(files: Iterable<[string, Buffer | string]>, compress = true): Promise<Buffer> {
  const zip = new ZipFile();
  for (const [name, bytes] of files) zip.addBuffer(Buffer.from(bytes), name, { compress });
  zip.end();
  const pieces: Buffer[] = [];
  for await (const piece of zip.outputStream) pieces.push(piece as Buffer);
  return Buffer.concat(pieces);
}
const lines = (files: Files, sheet: string): Record<string, unknown>[] =>
  files
    .get(`${sheet}.jsonl`)!
    .toString()
    .split('\n')
    .filter(Boolean)
    .map((line) => JSON.parse(line));

async function takenOut(of: { id: string } & typeof newsletter): Promise<Buffer> {
  const { id } = await startWhole(world.ctx, of, WRITER);
  await workExport(world.ctx, id);
  const pieces: Uint8Array[] = [];
  for await (const piece of (await exportFile(world.ctx, of, id)).bytes) pieces.push(piece);
  return Buffer.concat(pieces);
}
async function* inPieces(bytes: Buffer, size = 70_001) {
  for (let at = 0; at < bytes.length; at += size) yield bytes.subarray(at, at + size);
}
const send = (bytes: Buffer, user = newsletter.owner) =>
  beginRestore(world.ctx, { id: user, email: WRITER.email }, 'whole.zip', inPieces(bytes));
/** Sends a file in and brings it back; answers what became of it. */
async function brought(bytes: Buffer) {
  const { id } = await send(bytes);
  await bringBack(world.ctx, newsletter.owner, id);
  await workRestore(world.ctx, id);
  return restorePage(world.ctx, newsletter.owner, id);
}
const nothingStays = async () => {
  await world.work();
  const rows = await world.ctx.db.selectFrom('newsletters').select('id').execute();
  expect(rows).toEqual([{ id: newsletter.id }]);
  expect((await world.ctx.db.selectFrom('kept_files').select('id').execute()).length).toBeLessThanOrEqual(1);
};

describe('a whole newsletter', () => {
  beforeEach(open);
  afterEach(close);

  it('is taken out as open files, and brought back the same', async () => {
    const { readers, erased, publicId } = await live(world, newsletter);
    const zip = await takenOut(newsletter);
    const files = await unzip(zip);
    // What is there, for whoever has no program of ours.
    expect(files.get('README.txt')!.toString()).toContain('Lanternfish Letters');
    const names = [...files.keys()];
    const eml = names.filter((name) => name.endsWith('.eml'));
    expect(eml).toHaveLength(1);
    const mail = await simpleParser(files.get(eml[0]!)!);
    expect(mail.subject).toBe('Why the anglerfish waits');
    expect(mail.text).toContain('https://saltmarsh.example/look');
    expect(mail.html).toContain('Dear reader');
    const md = files.get(names.find((name) => name.endsWith('.md') && files.get(name)!.includes('anglerfish'))!)!.toString();
    expect(md).toMatch(/^---\ntitle: Why the anglerfish waits\n/);
    expect(md).toContain('Dear <data value="first_name">reader</data>[, look](https://saltmarsh.example/look)');
    expect(names.filter((name) => /^pictures\/.*\.png$/.test(name))).toHaveLength(2);
    expect(files.get(names.find((name) => name.endsWith('.gift'))!)!.toString()).toBe('tide table');
    expect(lines(files, 'readers').find((line) => line.id === readers[0])).toMatchObject({
      address: 'r0@heronmail.example',
      answers: expect.arrayContaining([expect.objectContaining({ value: '=1+1 “Zoë”' })]),
    });
    for (const sheet of [
      'readers',
      'consents',
      'suppressions',
      'deliveries',
      'events',
      'letters',
      'forms',
      'segments',
      'tags',
      'fields',
      'letter-links',
      'feed-items',
      'segment-sizes',
      'letter-figures',
      'days',
    ])
      expect([sheet, lines(files, sheet).length > 0]).toEqual([sheet, true]);
    // Nobody who was erased, nor any secret.
    expect(zipText(files)).not.toContain('r8@heronmail.example');
    expect(zipText(files)).not.toContain(erased);
    expect(zipText(files)).not.toContain('PRIVATE KEY');

    // On another installation, where the first is not.
    world.clock.advance(DAY);
    const again = await brought(zip);
    expect([again.state, again.cause, again.progress]).toEqual(['done', null, 1]);
    expect(again.slug).toBe('lanternfish-letters-2');
    const back = await openNewsletter(world.ctx, newsletter.owner, again.slug!, 'own');
    const rename = renamer(back.id);
    const second = await unzip(await takenOut({ ...back, owner: newsletter.owner }));
    const known = new Set(
      SHEETS.flatMap((sheet) => lines(files, sheet.name).flatMap((line) => Object.values(line))).flatMap(
        (value) => JSON.stringify(value).match(UUID) ?? [],
      ),
    );
    const renamed = (text: string) => text.replace(UUID, (found) => (known.has(found) ? rename(found) : found));
    for (const sheet of SHEETS) {
      const [was, is] = [
        renamed(files.get(`${sheet.name}.jsonl`)!.toString()),
        second.get(`${sheet.name}.jsonl`)!.toString(),
      ].map((text) =>
        text
          .split('\n')
          .filter(Boolean)
          .map((line) => JSON.parse(line) as Record<string, unknown>)
          .map((line) => {
            // What is different, and why, is written in the decision.
            if (sheet.name === 'forms') return { ...line, public_id: '' };
            if (sheet.name === 'readers') return { ...line, answers: sorted(line.answers), lists: sorted(line.lists) };
            // A test's posts are named by their ids.
            if (sheet.name === 'posts') return { ...line, slug: '' };
            if (sheet.name === 'letters' && line.state === 'scheduled')
              return { ...line, state: 'draft', cause: expect.any(String) };
            return line;
          })
          .sort((a, b) => (order(a) < order(b) ? -1 : 1)),
      );
      expect(is, sheet.name).toEqual(was);
    }
    const own = (from: Files) => JSON.parse(renamed(from.get('newsletter.json')!.toString()));
    expect(own(second).newsletter).toEqual({ ...own(files).newsletter, slug: 'lanternfish-letters-2' });
    expect(own(second).lines).toEqual(own(files).lines);
    // Pictures are there under their new addresses, and nothing points at the old ones.
    const [first] = lines(second, 'pictures');
    expect(readFileSync(`${world.ctx.config.mediaDir}/${first!.id}.png`).length).toBeGreaterThan(50);
    const form = lines(second, 'forms').find(
      (line) => JSON.stringify(line).includes('On diving') || JSON.stringify(line).includes('Letters from the reef'),
    )!;
    expect(JSON.stringify(form.definition)).toContain(
      rename(JSON.stringify(lines(files, 'forms')).match(/e\/media\/([0-9a-f-]{36})/)![1]!),
    );
    expect(form.public_id).not.toBe(publicId);

    // Its figures hold, and whoever was erased is still not brought back.
    expect(await recount(world.ctx, back)).toBe(0);
    expect(await suppressedAmong(world.ctx, world.ctx.db, back.id, ['r8@heronmail.example'])).toEqual(
      new Map([['r8@heronmail.example', 'erased']]),
    );
    // Nothing leaves by itself, and the writer is told.
    const before = world.mail.taken.length;
    world.clock.advance(10 * DAY);
    await world.work();
    expect(world.mail.to(WRITER.email).some((mail) => mail.source.includes('is back, whole'))).toBe(true);
    // The letter that waits leaves the first of them, once for each.
    const got = world.mail.taken.slice(before).filter((mail) => mail.to.startsWith('r'));
    expect(got.length).toBe(new Set(got.map((mail) => mail.to)).size);
  });

  it('whose forms nobody has any more keeps their addresses, so that a site need not be changed', async () => {
    const { publicId } = await live(world, newsletter);
    const zip = await takenOut(newsletter);
    await world.ctx.db
      .updateTable('forms')
      .set({ public_id: sql`public_id || 'x'` as never })
      .where('newsletter_id', '=', newsletter.id)
      .execute();
    const { slug } = await brought(zip);
    const back = await openNewsletter(world.ctx, newsletter.owner, slug!);
    const ids = await world.ctx.db.selectFrom('forms').select('public_id').where('newsletter_id', '=', back.id).execute();
    expect(ids.map((row) => row.public_id)).toContain(publicId);
  });

  it('goes on where a worker fell, and two workers bring nothing twice', async () => {
    const { readers } = await live(world, newsletter);
    await world.readers(
      newsletter,
      Array.from({ length: 2_500 }, (_, n) => `many${n}@heronmail.example`),
    );
    const zip = await takenOut(newsletter);
    const { id } = await send(zip);
    await bringBack(world.ctx, newsletter.owner, id);
    await bringBack(world.ctx, newsletter.owner, id);
    // Each connection falls after some statements, as with a process that is killed.
    for (let falls = 4; ; falls += 3) {
      const broken = world.brokenAfter(falls);
      await workRestore(broken, id).catch(() => undefined);
      const page = await restorePage(world.ctx, newsletter.owner, id);
      if (page.state !== 'bringing') break;
      // Nobody can open it, and no form of it takes anybody, before all of it is there.
      const { rows } = await sql<{
        n: number;
      }>`select count(*)::int as n from members m join newsletters n on n.id = m.newsletter_id where n.coming`.execute(
        world.ctx.db,
      );
      expect(rows[0]!.n).toBe(0);
      if (falls % 2) await Promise.all([workRestore(world.ctx, id), workRestore(world.ctx, id)].slice(0, falls > 60 ? 2 : 0));
    }
    const page = await restorePage(world.ctx, newsletter.owner, id);
    expect([page.state, page.cause]).toEqual(['done', null]);
    const back = await openNewsletter(world.ctx, newsletter.owner, page.slug!);
    const count = async (table: 'readers' | 'consents' | 'deliveries' | 'events') => {
      const n = async (of: string) =>
        Number(
          (
            await world.ctx.db
              .selectFrom(table)
              .select((eb) => eb.fn.countAll().as('n'))
              .where('newsletter_id', '=', of)
              .executeTakeFirstOrThrow()
          ).n,
        );
      return [await n(newsletter.id), await n(back.id)];
    };
    for (const table of ['readers', 'consents', 'deliveries', 'events'] as const) {
      const [was, is] = await count(table);
      expect([table, is]).toEqual([table, was]);
    }
    expect(readers.length).toBeGreaterThan(10);
    expect(await recount(world.ctx, back)).toBe(0);
  }, 300_000);
});

const UUID = /[0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12}/g;
const sorted = (all: unknown) => (all as object[]).map((one) => JSON.stringify(one)).sort();
const zipText = (files: Files) => [...files.values()].map((bytes) => bytes.toString('latin1')).join('\n');
const order = (line: Record<string, unknown>) =>
  createHash('sha1')
    .update(
      JSON.stringify(
        Object.values(line)
          .filter((value) => typeof value === 'string' && !String(value).includes('waiting when'))
          .slice(0, 4),
      ),
    )
    .digest('hex');

describe('what is taken out', () => {
  beforeEach(open);
  afterEach(close);

  it('is written once, stopped where it stands, and dropped with somebody who is erased meanwhile', async () => {
    const [ada] = await world.readers(newsletter, ['ada@heronmail.example', 'bo@heronmail.example']);
    const { id } = await startWhole(world.ctx, newsletter, WRITER);
    await Promise.all([workExport(world.ctx, id), workExport(world.ctx, id)]);
    const [done] = await exportsOf(world.ctx, newsletter);
    expect(done).toMatchObject({ state: 'done', fetch: true });
    const stopped = await startWhole(world.ctx, newsletter, WRITER);
    await stopExport(world.ctx, newsletter, stopped.id);
    await workExport(world.ctx, stopped.id);
    const third = await startWhole(world.ctx, newsletter, WRITER);
    await inTransaction(world.ctx.db, (trx) => eraseReaders(world.ctx, trx, newsletter, [ada!], BY));
    await workExport(world.ctx, third.id);
    expect((await exportsOf(world.ctx, newsletter)).map((one) => [one.state, one.fetch])).toEqual([
      ['failed', false],
      ['stopped', false],
      ['done', false],
    ]);
    expect(await world.ctx.db.selectFrom('kept_parts').select('n').execute()).toEqual([]);
  });

  it('cut off by a kill is begun anew by whoever comes, whole', async () => {
    await live(world, newsletter);
    const { id } = await startWhole(world.ctx, newsletter, WRITER);
    const broken = world.brokenAfter(25);
    await expect(workExport(broken, id)).rejects.toThrow();
    await workExport(world.ctx, id);
    const pieces: Uint8Array[] = [];
    for await (const piece of (await exportFile(world.ctx, newsletter, id)).bytes) pieces.push(piece);
    const files = await unzip(Buffer.concat(pieces));
    expect(lines(files, 'readers').length).toBe(18);
  });
});

describe('a file that is no whole newsletter', () => {
  let zip: Buffer;
  beforeAll(async () => {
    await open();
    await live(world, newsletter);
    zip = await takenOut(newsletter);
  });
  afterAll(close);

  const refusal = async (bytes: Buffer) =>
    send(bytes).then(
      () => 'taken',
      (error) => error.sentence ?? error,
    );

  it('is refused in words before anything is brought: text, pictures, other zips, half of one', async () => {
    expect(await refusal(Buffer.from('Email,Name\nada@example.com,Ada\n'))).toMatch(/no file of a whole newsletter/);
    expect(await refusal(Buffer.alloc(0))).toMatch(/no file of a whole newsletter/);
    expect(await refusal(await zipped([['xl/workbook.xml', '<a/>']]))).toMatch(/no file of a whole newsletter/);
    expect(await refusal(await zipped([['newsletter.json', '{"format":"another"}']]))).toMatch(/no file of a whole newsletter/);
    expect(await refusal(await zipped([['newsletter.json', 'null']]))).toMatch(/no file of a whole newsletter/);
    expect(await refusal(zip.subarray(0, zip.length / 2))).toMatch(/no file of a whole newsletter/);
    const files = await unzip(zip);
    const later = JSON.stringify({ ...JSON.parse(files.get('newsletter.json')!.toString()), version: 9 });
    expect(await refusal(await zipped(new Map([...files, ['newsletter.json', Buffer.from(later)]])))).toMatch(/later version/);
    files.delete('consents.jsonl');
    expect(await refusal(await zipped(files))).toMatch(/“consents.jsonl” is not in it/);
    await nothingStays();
  });

  it('made to burst is refused unopened; so is one that lies about its sizes', async () => {
    const bomb = await zipped([
      ['newsletter.json', '{}'],
      ['readers.jsonl', Buffer.alloc(60_000_000, 0x20)],
    ]);
    expect(bomb.length).toBeLessThan(100_000);
    expect(await refusal(bomb)).toMatch(/out of all measure/);
    // The directory says that it is small: what comes out is held against that.
    const lying = Buffer.from(bomb);
    const at = lying.lastIndexOf(Buffer.from([0x50, 0x4b, 0x01, 0x02]));
    lying.writeUInt32LE(1_000, at + 24);
    expect(await refusal(lying)).toMatch(/no file of a whole newsletter|damaged/);
    await nothingStays();
  });

  it.each([
    [
      'a bit that fell over',
      (files: Files) => files,
      /damaged|is not as it was written|cannot be opened|this is no object|“/,
      true,
    ],
    [
      'lines that are missing',
      (files: Files) => edit(files, 'readers', (all) => all.slice(1)),
      /has \d+ lines and should have/,
      false,
    ],
    [
      'a reader twice',
      (files: Files) => edit(files, 'readers', (all) => [all[0]!, ...all.slice(1, -1), { ...all[0]!, id: all.at(-1)!.id }]),
      /stands there twice/,
      false,
    ],
    [
      'no address',
      (files: Files) => edit(files, 'readers', (all) => [{ ...all[0]!, address: 'ada at example' }, ...all.slice(1)]),
      /readers\.jsonl, line 1: “ada at example” is not an address/,
      false,
    ],
    [
      'a NUL',
      (files: Files) => edit(files, 'readers', (all) => [{ ...all[0]!, note: 'a\0b' }, ...all.slice(1)]),
      /readers\.jsonl, line 1/,
      false,
    ],
    [
      'half a character',
      (files: Files) => edit(files, 'readers', (all) => [{ ...all[0]!, note: 'a\ud800' }, ...all.slice(1)]),
      /readers\.jsonl, line 1/,
      false,
    ],
    [
      'a state that there is not',
      (files: Files) => edit(files, 'readers', (all) => [{ ...all[0]!, address_state: 'keen' }, ...all.slice(1)]),
      /readers\.jsonl, line 1: “address_state”/,
      false,
    ],
    [
      'an answer to no question',
      (files: Files) =>
        edit(files, 'readers', (all) => [
          { ...all[0]!, answers: [{ field: '018f0000-0000-7000-8000-000000000000', value: 'x', at: '2026-01-01T00:00:00Z' }] },
          ...all.slice(1),
        ]),
      /named there that is not in the file/,
      false,
    ],
    [
      'another newsletter’s list',
      (files: Files) => edit(files, 'auto-sends', (all) => [{ ...all[0]!, layout_id: '018f0000-0000-7000-8000-000000000000' }]),
      /named there that is not in the file/,
      false,
    ],
    [
      'a form with somebody’s script',
      (files: Files) => edit(files, 'forms', (all) => [{ ...all[0]!, definition: { heading: '<script>' } }, ...all.slice(1)]),
      /forms\.jsonl, line 1/,
      false,
    ],
    [
      'a letter of the year 1',
      (files: Files) => edit(files, 'deliveries', (all) => [{ ...all[0]!, sent_on: '0001-01-01' }, ...all.slice(1)]),
      /letters of 0001-01-01/,
      false,
    ],
    [
      'a day that there is not',
      (files: Files) => edit(files, 'days', (all) => [{ ...all[0]!, day: '2026-02-31' }, ...all.slice(1)]),
      /days\.jsonl, line.*cannot be kept/,
      false,
    ],
    [
      'a picture that is none',
      (files: Files) =>
        new Map(
          [...files].map(([name, bytes]): [string, Buffer] => [
            name,
            name.startsWith('pictures/') ? Buffer.from('<svg onload="x">') : bytes,
          ]),
        ),
      /no picture we can read/,
      false,
    ],
  ] as const)('with %s is brought not at all, and says where', async (_, change, sentence, flip) => {
    let bytes = await zipped(change(await unzip(zip)), !flip);
    if (flip) {
      // Stored as it is, so that only the sum tells.
      bytes = Buffer.from(bytes);
      const at = bytes.indexOf('"note"') + 12;
      bytes[at] = bytes[at]! ^ 1;
    }
    const page = await brought(bytes);
    expect(page.state).toBe('failed');
    expect(page.cause).toMatch(sentence);
    expect(page.slug).toBeNull();
    await nothingStays();
  });

  it('that somebody sent is nobody else’s, and goes after a day, or when they send another', async () => {
    const { id } = await send(zip);
    const stranger = await world.newsletter('Harbour Notes');
    await expect(restorePage(world.ctx, stranger.owner, id)).rejects.toMatchObject({ code: 'not-found' });
    await expect(bringBack(world.ctx, stranger.owner, id)).rejects.toMatchObject({ code: 'conflict' });
    const { id: next } = await send(zip);
    await expect(restorePage(world.ctx, newsletter.owner, id)).rejects.toMatchObject({ code: 'not-found' });
    world.clock.advance(DAY + 60_000);
    await housekeeping(world.ctx);
    await expect(restorePage(world.ctx, newsletter.owner, next)).rejects.toMatchObject({ code: 'not-found' });
    const { id: third } = await send(zip);
    await dropAsking(world.ctx, newsletter.owner);
    await expect(bringBack(world.ctx, newsletter.owner, third)).rejects.toMatchObject({ code: 'conflict' });
    expect(await world.ctx.db.selectFrom('newsletters').select('id').where('coming', '=', true).execute()).toEqual([]);
  });
});

/** A file with other lines in one of its sheets; the count of them stays what it was. */
function edit(files: Files, sheet: string, change: (all: Record<string, unknown>[]) => Record<string, unknown>[]): Files {
  const text = change(lines(files, sheet))
    .map((line) => `${JSON.stringify(line)}\n`)
    .join('');
  return new Map([...files, [`${sheet}.jsonl`, Buffer.from(text)]]);
}

/** What of a newsletter's tables does not go along, and why. */
const LEFT_OUT: Record<string, string | Record<string, string>> = {
  newsletters: 'in newsletter.json',
  members: 'people have accounts of their own',
  invitations: 'mailed links',
  confirmations: 'mailed links',
  address_changes: 'mailed links',
  trials: 'mailed links',
  domain_keys: 'secrets',
  relays: 'a secret',
  domain_checks: 'of keys that are not there',
  domain_days: 'of a ramp that begins anew',
  test_letters: 'of keys that are not there',
  mails: 'under way',
  route_jobs: 'under way',
  routes: 'of the installation',
  route_names: 'of the installation',
  lanes: 'of the installation',
  relay_hours: 'of the installation',
  refusals: 'of the installation',
  reports: 'of the installation',
  feedback: 'of the installation; counted with its letters',
  dmarc_reports: 'of keys that are not there',
  dmarc_sources: 'of keys that are not there',
  tls_reports: 'of keys that are not there',
  source_hosts: 'of the installation',
  held_back: 'people who never got in',
  import_rows: 'what imports were made of',
  cleanups: 'under way',
  bulk_acts: 'what acts were made of',
  bulk_people: 'what acts were made of',
  kept_files: 'files under way',
  kept_parts: 'files under way',
  exports: 'files under way',
  restores: 'files under way',
  warmings: 'worked out anew',
  warnings: 'found anew',
  event_months: 'of the installation',
  seed_boxes: 'mailboxes of whoever had it',
  seed_tests: 'mailboxes of whoever had it',
  seed_copies: 'mailboxes of whoever had it',
  memberships: 'with their readers',
  reader_answers: 'with their readers',
  reader_tags: 'with their readers',
  senders: {
    confirmed_at: 'proven anew',
    proof_hash: 'a mailed link',
    proof_sent_at: 'a mailed link',
    proof_expires_at: 'a mailed link',
  },
  domains: {
    id: 'proven anew',
    reports_token: 'proven anew',
    state: 'proven anew',
    judgements: 'proven anew',
    facts: 'proven anew',
    zone: 'proven anew',
    name_servers: 'proven anew',
    keys_by_alias: 'proven anew',
    ramp: 'begins anew',
    ramp_counted_at: 'begins anew',
    steady_since: 'proven anew',
    checked_at: 'proven anew',
    next_check_at: 'proven anew',
    checks_since_change: 'proven anew',
    created_at: 'proven anew',
  },
  imports: {
    file_id: 'of the file',
    cause: 'of the file',
    dialect: 'of the file',
    columns: 'of the file',
    plan: 'of the file',
    found: 'of the file',
    read_bytes: 'of the file',
    upto: 'of the file',
    brought_at: 'cannot be taken back there',
  },
  readers: {
    address_key: 'worked out',
    domain_id: 'worked out',
    lists_reading: 'worked out',
    lists_waiting: 'worked out',
    lists_left: 'worked out',
    standing: 'worked out',
    name_key: 'worked out',
    source_medium: 'worked out',
    source_campaign: 'worked out',
  },
  consents: { id: 'their order' },
  posts: { writer_key: 'under way', writer_name: 'under way', writer_until: 'under way' },
  feeds: {
    etag: 'asked anew',
    last_modified: 'asked anew',
    next_poll_at: 'asked anew',
    polled_at: 'asked anew',
    failures: 'asked anew',
    fault: 'asked anew',
    cut: 'asked anew',
    failing_since: 'asked anew',
    told_at: 'asked anew',
    emptied_at: 'asked anew',
    quiet_told_at: 'asked anew',
    hub: 'asked anew',
    topic: 'asked anew',
    hub_token: 'asked anew',
    hub_until: 'asked anew',
    hub_asked_at: 'asked anew',
    claimed_at: 'asked anew',
    told_new_at: 'asked anew',
  },
  auto_sends: { switched_on_at: 'switched off', paused_at: 'switched off' },
  auto_send_feeds: { begun_at: 'asked anew' },
  rule_posts: { bundle: 'under way' },
  rule_lanes: { next_at: 'switched off', skipped_at: 'switched off' },
  rule_runs: { approve_by: 'under way' },
  reader_rhythms: { joins: 'under way' },
  letters: {
    domain_id: 'proven anew',
    decide_at: 'under way',
    told_causes: 'under way',
    first_copy: 'worked out',
    last_copy: 'worked out',
    last_due_at: 'under way',
    figures: 'worked out',
    figures_at: 'worked out',
    figures_ms: 'worked out',
  },
  letter_progress: 'under way',
  feed_items: { place: 'their order' },
  deliveries: {
    id: 'their order',
    route_id: 'of the installation',
    chips: 'filled for copies that left',
    faults: 'of the installation',
    claimed_by: 'under way',
  },
  events: { id: 'their order', delivery_id: 'found by reader and letter' },
};

describe('the sheets of a whole newsletter', () => {
  it('have every column that is about a newsletter, or it is said why not', async () => {
    await open();
    const { rows } = await sql<{ table: string; column: string }>`
      with recursive own as (
        select oid from (select 'newsletters'::regclass::oid as oid union
          select a.attrelid from pg_attribute a join pg_class k on k.oid = a.attrelid and k.relkind in ('r', 'p') and not k.relispartition
          join pg_namespace s on s.oid = k.relnamespace and s.nspname = 'public' where a.attname = 'newsletter_id') first
        union select c.conrelid from pg_constraint c join own on c.confrelid = own.oid where c.contype = 'f' and c.confdeltype = 'c')
      select c.table_name as table, c.column_name as column from information_schema.columns c join own on own.oid = (quote_ident(c.table_schema) || '.' || quote_ident(c.table_name))::regclass
      where c.table_schema = 'public' order by 1, 2`.execute(world.ctx.db);
    expect(rows.length).toBeGreaterThan(200);
    // Counts are taken out as what is read of them, and made anew from the rows.
    const counts = /^(letter|people|source|day|reason|list)_(changes|sums|months)$/;
    const missing = rows.filter(({ table, column }) => {
      const left = LEFT_OUT[table];
      if (counts.test(table) || typeof left === 'string' || column === 'newsletter_id') return false;
      const sheet = SHEETS.find((one) => one.table === table);
      return !sheet?.columns[column] && !left?.[column];
    });
    expect(missing).toEqual([]);
    await close();
  });
});
