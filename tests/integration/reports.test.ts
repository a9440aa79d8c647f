import { generateKeyPairSync } from 'node:crypto';
import { gzipSync } from 'node:zlib';
import { dkimSign } from 'mailauth/lib/dkim/sign';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { ZipFile } from 'yazl';
import { letReportCount, readReport, reportsDue, uploadReport, workReport } from '@/server/delivery/read-reports';
import { keepReport } from '@/server/delivery/reports';
import { addDomain } from '@/server/senders/domains';
import { TestWorld } from './world';

let world: TestWorld;
let newsletter: Awaited<ReturnType<TestWorld['newsletter']>>;
let domain: { id: string; token: string; selector: string };

beforeEach(async () => {
  world = await TestWorld.open();
  newsletter = await world.newsletter();
  const { id } = await addDomain(world.ctx, newsletter, 'saltpan.example');
  const { reports_token: token } = await world.ctx.db
    .selectFrom('domains')
    .select('reports_token')
    .where('id', '=', id)
    .executeTakeFirstOrThrow();
  const { selector } = await world.ctx.db
    .selectFrom('domain_keys')
    .select('selector')
    .where('domain_id', '=', id)
    .where('role', '=', 'active')
    .executeTakeFirstOrThrow();
  domain = { id, token, selector };
});
afterEach(() => world.close());

const xml = ({ id = 'r-1', of = 'saltpan.example', records = '' } = {}) =>
  `<?xml version="1.0"?><feedback><report_metadata><org_name>Heron Mail</org_name><email>r@heronmail.example</email><report_id>${id}</report_id><date_range><begin>1795392000</begin><end>1795478399</end></date_range></report_metadata><policy_published><domain>${of}</domain><p>none</p></policy_published>${records || row('192.0.2.7', 12, true)}${records ? '' : row('198.51.100.9', 3, false)}</feedback>`;
const row = (ip: string, count: number, aligned: boolean) =>
  `<record><row><source_ip>${ip}</source_ip><count>${count}</count><policy_evaluated><disposition>none</disposition><dkim>${aligned ? 'pass' : 'fail'}</dkim><spf>${aligned ? 'pass' : 'fail'}</spf></policy_evaluated></row><identifiers><header_from>saltpan.example</header_from></identifiers><auth_results>${aligned ? `<dkim><domain>saltpan.example</domain><selector>${domain.selector}</selector><result>pass</result></dkim><spf><domain>bounce.saltpan.example</domain><result>pass</result></spf>` : ''}</auth_results></record>`;
async function zip(files: Record<string, Buffer | string>): Promise<Buffer> {
  const made = new ZipFile();
  for (const [name, bytes] of Object.entries(files)) made.addBuffer(Buffer.from(bytes), name);
  made.end();
  const pieces: Buffer[] = [];
  for await (const piece of made.outputStream) pieces.push(piece as Buffer);
  return Buffer.concat(pieces);
}
const mailed = (bytes: Buffer, name: string) =>
  Buffer.from(
    `From: reports@heronmail.example\r\nSubject: Report\r\nMIME-Version: 1.0\r\nContent-Type: application/octet-stream; name="${name}"\r\nContent-Disposition: attachment; filename="${name}"\r\nContent-Transfer-Encoding: base64\r\n\r\n${bytes.toString('base64').replace(/.{76}/g, '$&\r\n')}\r\n`,
  );
const keys = generateKeyPairSync('ed25519');
const publicKey = keys.publicKey.export({ type: 'spki', format: 'der' }).subarray(-32).toString('base64');
/** A mail with the signature of a domain, whose key stands where it should. */
async function signed(mail: Buffer, by = 'heronmail.example', more: Record<string, unknown> = {}): Promise<Buffer> {
  world.dns.records.set(`s1._domainkey.${by}`, [`v=DKIM1; k=ed25519; p=${publicKey}`]);
  const privateKey = keys.privateKey.export({ type: 'pkcs8', format: 'pem' }).toString();
  const own = { signingDomain: by, selector: 's1', privateKey, ...more };
  const how = { ...own, algorithm: 'ed25519-sha256', signatureData: [own] };
  const { signatures } = await dkimSign(mail, how);
  return Buffer.concat([Buffer.from(signatures), mail]);
}
/** What became of a mail that came to an address for reports, looked at twice. */
async function arrives(mail: Buffer, local = domain.token, kind: 'dmarc' | 'tls' = 'dmarc') {
  expect(await keepReport(world.ctx, local, kind, mail)).toBe(true);
  const { id } = await world.ctx.db.selectFrom('reports').select('id').orderBy('id', 'desc').executeTakeFirstOrThrow();
  await workReport(world.ctx, id);
  await workReport(world.ctx, id);
  return await becameOf(id);
}
const becameOf = (id: string) =>
  world.ctx.db
    .selectFrom('reports')
    .select(['id', 'handled_at', 'fault', 'unsigned'])
    .where('id', '=', id)
    .executeTakeFirstOrThrow();
const comes = async (bytes: Buffer, name: string, local = domain.token, kind: 'dmarc' | 'tls' = 'dmarc') =>
  arrives(await signed(mailed(bytes, name)), local, kind);
const kept = () => world.ctx.db.selectFrom('dmarc_reports').select(['report_id', 'mails', 'aligned']).orderBy('id').execute();
const sources = () =>
  world.ctx.db.selectFrom('dmarc_sources').select(['ip', 'kind', 'mails', 'aligned', 'who']).orderBy('n').execute();
async function* inPieces(bytes: Buffer) {
  for (let at = 0; at < bytes.length; at += 1_000) yield bytes.subarray(at, at + 1_000);
}

describe('reports of what others saw', () => {
  it('come by mail in any pack, are read once each, and say what came from where', async () => {
    world.dns.records.set('7.2.0.192.in-addr.arpa', ['out.inkset.example']);
    for (const [n, bytes] of [
      Buffer.from(xml({ id: 'plain' })),
      gzipSync(xml({ id: 'gz' })),
      await zip({ 'a!b!1!2.xml': xml({ id: 'zip' }) }),
    ].entries())
      expect(await comes(bytes, ['a.xml', 'a.xml.gz', 'a.zip'][n]!)).toMatchObject({ fault: null, handled_at: expect.any(Date) });
    // The same once more, as mail that comes again.
    expect(await comes(gzipSync(xml({ id: 'gz' })), 'again.gz')).toMatchObject({ fault: null });
    expect(await kept()).toEqual(['plain', 'gz', 'zip'].map((report_id) => ({ report_id, mails: 15, aligned: 12 })));
    expect((await sources()).slice(0, 2)).toMatchObject([
      { ip: '192.0.2.7', kind: 'ours', mails: 12, aligned: 12, who: 'saltpan.example' },
      { ip: '192.0.2.7', kind: 'ours', mails: 12 },
    ]);
    expect((await sources()).filter(({ kind }) => kind === 'stranger')).toHaveLength(3);
    const hosts = await world.ctx.db.selectFrom('source_hosts').select(['ip', 'name']).orderBy('ip').execute();
    expect(hosts).toEqual([
      { ip: '192.0.2.7', name: 'out.inkset.example' },
      { ip: '198.51.100.9', name: null },
    ]);
  });

  it('are uploaded for a domain of one’s own alone, and refused in words', async () => {
    const up = (bytes: Buffer) => uploadReport(world.ctx, newsletter, domain.id, inPieces(bytes));
    expect(await up(gzipSync(xml()))).toEqual({
      kind: 'dmarc',
      reporter: 'Heron Mail',
      domain: 'saltpan.example',
      mails: 15,
      again: false,
    });
    expect(await up(Buffer.from(xml()))).toMatchObject({ again: true });
    const other = await world.newsletter('Another one');
    await expect(uploadReport(world.ctx, other, domain.id, inPieces(Buffer.from(xml())))).rejects.toMatchObject({
      code: 'not-found',
    });
    const bomb = gzipSync(Buffer.alloc(160_000_000, 0x20));
    const entities = `<!DOCTYPE x [<!ENTITY a "${'a'.repeat(100)}">${Array.from({ length: 9 }, (_, n) => `<!ENTITY b${n} "${`&${n ? `b${n - 1}` : 'a'};`.repeat(10)}">`).join('')}]>`;
    for (const [bytes, words] of [
      [Buffer.from(xml({ of: 'else.example' })), /about else\.example, not about saltpan/],
      [Buffer.from(xml({ of: 'notsaltpan.example' })), /not about/],
      [Buffer.from('hello'), /no DMARC report/],
      [Buffer.alloc(0), /no DMARC report/],
      [Buffer.alloc(13_000_000, 0x20), /12 MB/],
      [bomb, /longer than any report/],
      [gzipSync(xml()).subarray(0, 100), /pack is broken/],
      [Buffer.from('PK\u0003\u0004nonsense'), /pack is broken/],
      [await zip({ 'readme.txt': 'hello' }), /no report in this zip/],
      [Buffer.from('{"policies": 1}'), /report about encryption/],
      [Buffer.from(`${entities}<feedback>&b8;</feedback>`), /not whole/],
      [Buffer.from(xml().replace(/179\d{7}/g, (second) => String(Number(second) + 90 * 86_400))), /lie ahead/],
      [Buffer.from(xml().replace(/179\d{7}/g, (second) => String(Number(second) - 500 * 86_400))), /a year back/],
    ] as [Buffer, RegExp][])
      await expect(up(bytes)).rejects.toMatchObject({ sentence: expect.stringMatching(words) });
    expect(await kept()).toHaveLength(1);
  });

  it('a path in a zip leads nowhere: what lies under it is read, and nothing written', async () => {
    const bytes = await zip({ 'aaaaaaaaaaaaaaaaaaaaaaaaaa.xml': xml({ id: 'evil' }) });
    // As a program would write it that means harm: the same length, so that the zip stays whole.
    const evil = Buffer.from(
      bytes.toString('latin1').replaceAll('aaaaaaaaaaaaaaaaaaaaaaaaaa.xml', '../../../../../../../tmp/e.xml'.padStart(30, '.')),
      'latin1',
    );
    expect(
      await readReport(evil).then(
        (read) => read.kind,
        (error) => error.sentence,
      ),
    ).toMatch(/dmarc|broken/);
  });

  it('by mail about other domains, and what is none, is kept with its reason and counted nowhere', async () => {
    expect((await comes(gzipSync(xml({ of: 'else.example' })), 'a.gz')).fault).toMatch(/nobody here has added/);
    expect((await comes(gzipSync(xml()), 'a.gz', 'dmarc')).fault).toMatch(/nobody here has added/);
    expect((await comes(Buffer.from('x'), 'a.gz')).fault).toMatch(/no DMARC report/);
    const hello = await signed(Buffer.from('From: a@b.example\r\n\r\nhello'), 'b.example');
    expect((await arrives(hello)).fault).toMatch(/no report in this mail/);
    expect(await kept()).toEqual([]);
    // Once its domain is proven, a report to the plain address finds it.
    await world.ctx.db.updateTable('domains').set({ state: 'authenticated' }).where('id', '=', domain.id).execute();
    expect((await comes(gzipSync(xml()), 'a.gz', 'dmarc')).fault).toBeNull();
    expect(await kept()).toHaveLength(1);
  });

  it('about encryption are kept by domain, once', async () => {
    const report = (id: string) =>
      JSON.stringify({
        'organization-name': 'Heron Mail',
        'date-range': { 'start-datetime': '2026-11-24T00:00:00Z', 'end-datetime': '2026-11-24T23:59:59Z' },
        'report-id': id,
        policies: [
          {
            policy: { 'policy-type': 'sts', 'policy-domain': 'bounce.saltpan.example' },
            summary: { 'total-successful-session-count': 40, 'total-failure-session-count': 2 },
            'failure-details': [
              { 'result-type': 'certificate-expired', 'receiving-mx-hostname': 'in.inkset.example', 'failed-session-count': 2 },
            ],
          },
        ],
      });
    await world.ctx.db.updateTable('domains').set({ state: 'authenticated' }).where('id', '=', domain.id).execute();
    expect((await comes(gzipSync(report('t1')), 'a.json.gz', 'tls', 'tls')).fault).toBeNull();
    expect((await comes(gzipSync(report('t1')), 'a.json.gz', 'tls', 'tls')).fault).toBeNull();
    const rows = await world.ctx.db.selectFrom('tls_reports').select(['domain_id', 'good', 'failed']).execute();
    expect(rows).toEqual([{ domain_id: domain.id, good: 40, failed: 2 }]);
  });
});

describe('a report counts by the word of whoever signed it', () => {
  const report = (id: string) => mailed(gzipSync(xml({ id })), 'a.gz');
  const reporters = () =>
    world.ctx.db.selectFrom('dmarc_reports').select(['report_id', 'reporter', 'signed_by']).orderBy('id').execute();

  it('and not where nothing shows whose it is, until somebody says that it counts', async () => {
    const genuine = await signed(report('g'));
    const text = genuine.toString('latin1');
    const after = (head: string) => Buffer.from(text.replace('\r\n\r\n', `\r\n${head}\r\n\r\n`), 'latin1');
    world.dns.records.set('gone._domainkey.heronmail.example', []);
    for (const [mail, words] of [
      [report('a'), /bears no signature of heronmail\.example/],
      // Another’s signature is nobody’s who is named.
      [await signed(report('a'), 'evil.example'), /bears no signature of heronmail/],
      [await signed(report('a'), 'notheronmail.example'), /bears no signature of heronmail/],
      [Buffer.concat([genuine, Buffer.from('more\r\n')]), /does not hold/],
      [Buffer.from(text.replace('Subject: Report', 'Subject: Rapport'), 'latin1'), /does not hold/],
      [Buffer.from(text.replace('s=s1', 's=gone'), 'latin1'), /does not hold/],
      [Buffer.from(`From: reports@evil.example\r\n${text}`, 'latin1'), /not say in one way whom/],
      [after('From: reports@evil.example'), /not say in one way whom/],
      [await signed(report('a'), 'heronmail.example', { maxBodyLength: 10 }), /A part of it alone/],
      [Buffer.from(text.replace('DKIM-Signature: ', 'DKIM-Signature: l=1; l=2; '), 'latin1'), /not written as one/],
      [Buffer.from(`${'DKIM-Signature: v=1; d=heronmail.example; s=s1\r\n'.repeat(6)}${text}`, 'latin1'), /more signatures/],
      [Buffer.from(`X-Long: ${'x'.repeat(70_000)}\r\n${text}`, 'latin1'), /head is longer/],
      [Buffer.from('no head at all'), /head is longer/],
      [Buffer.from(`Subject: x\r\n\r\n\u0000`), /not say in one way whom/],
    ] as [Buffer, RegExp][])
      expect(await arrives(mail)).toMatchObject({ fault: expect.stringMatching(words), unsigned: true });
    expect(await reporters()).toEqual([]);

    const { id } = await arrives(report('a'));
    const other = await world.newsletter('Another one');
    await expect(letReportCount(world.ctx, other, id)).rejects.toMatchObject({ code: 'not-found' });
    await letReportCount(world.ctx, newsletter, id);
    expect(await reporters()).toEqual([{ report_id: 'a', reporter: 'Heron Mail', signed_by: '' }]);
    expect(await becameOf(id)).toMatchObject({ fault: null, unsigned: false });
    await expect(letReportCount(world.ctx, newsletter, id)).rejects.toMatchObject({ code: 'not-found' });
    await expect(letReportCount(world.ctx, newsletter, 'x')).rejects.toThrow();
  });

  it('and is named by them; one in another’s name takes nobody’s place', async () => {
    const evil = Buffer.from(report('r').toString().replace('reports@heronmail', 'reports@mail.evil'));
    expect((await arrives(await signed(evil, 'evil.example'))).fault).toBeNull();
    expect((await arrives(await signed(report('r')))).fault).toBeNull();
    expect((await arrives(await signed(report('r')))).fault).toBeNull();
    expect(await reporters()).toEqual([
      { report_id: 'r', reporter: 'Heron Mail', signed_by: 'evil.example' },
      { report_id: 'r', reporter: 'Heron Mail', signed_by: 'heronmail.example' },
    ]);
    // Who brings it besides brings nothing new.
    const brought = await uploadReport(world.ctx, newsletter, domain.id, inPieces(gzipSync(xml({ id: 'r' }))));
    expect(brought).toMatchObject({ again: true });
    await uploadReport(world.ctx, newsletter, domain.id, inPieces(gzipSync(xml({ id: 'first' }))));
    expect((await arrives(await signed(report('first')))).fault).toBeNull();
    expect(await reporters()).toHaveLength(3);
  });

  it('whose key nobody answers for is looked at again for two days, and keeps no other waiting', async () => {
    const mail = await signed(report('k'));
    world.dns.silent = true;
    const { id, handled_at } = await arrives(mail);
    expect(handled_at).toBeNull();
    expect(await reportsDue(world.ctx)).toEqual([]);
    world.dns.silent = false;
    await workReport(world.ctx, id);
    expect((await becameOf(id)).handled_at).toBeNull();
    world.clock.advance(16 * 60_000);
    expect(await reportsDue(world.ctx)).toEqual([{ id }]);
    await workReport(world.ctx, id);
    expect(await reporters()).toMatchObject([{ report_id: 'k', signed_by: 'heronmail.example' }]);

    world.dns.silent = true;
    const second = await arrives(await signed(report('never')));
    world.clock.advance(49 * 3_600_000);
    await workReport(world.ctx, second.id);
    expect(await becameOf(second.id)).toMatchObject({ fault: expect.stringMatching(/for two days/), unsigned: true });
  });

  it('and one that is made so that checking it takes for ever is given up on', async () => {
    const long = Buffer.concat([await signed(mailed(Buffer.from('x'), 'a.gz')), Buffer.alloc(9_000_000, 0x0a)]);
    expect(await arrives(long)).toMatchObject({ fault: expect.stringMatching(/takes too long|does not hold/), unsigned: true });
    expect((await arrives(await signed(report('next')))).fault).toBeNull();
  });
});
