/*
 * The DNS host: two name servers (UDP and TCP, at 127.0.0.2 and 127.0.0.3) for every zone typed here, a resolver for the whole of this world
 * (at 127.0.0.1), and the pages on which records are typed or pasted. Zones are kept as master files. The mood can be changed to see what
 * happens: "silent" answers nothing, "failing" answers SERVFAIL, "remembering" is a resolver that keeps answers for as long as their TTL says,
 * "bogus" one that finds every DNSSEC signature wrong, "lame" name servers that know no zone.
 */
import { createSocket } from 'node:dgram';
import { readdirSync, readFileSync } from 'node:fs';
import { createServer } from 'node:net';
import { dirname } from 'node:path';
import * as dns from 'dns-packet';
import { asJson, notFound, serve } from '../shell/http';
import { esc, worldPage } from '../shell/page';
import { place, portOf, worldNow, writeFileWhole } from '../shell/world';
import { answer, encodeUdp, type Zones } from './answer';
import { makeRecord, readMasterFile, valueTokens, writeMasterFile, type ZoneRecord } from './master-file';

const folder = dirname(place('zones', 'any.zone'));
const zones: Zones = new Map();
for (const name of readdirSync(folder).filter((file) => file.endsWith('.zone'))) {
  const domain = name.replace(/\.zone$/, '');
  zones.set(domain, readMasterFile(readFileSync(place('zones', name), 'utf8'), domain).records);
}
const MOODS = ['normal', 'silent', 'failing', 'remembering', 'bogus', 'lame'] as const;
type Mood = (typeof MOODS)[number];
let mood: Mood = 'normal';

const RESOLVER = '127.0.0.1';
const NAME_SERVERS = ['127.0.0.2', '127.0.0.3'];
// The host's own zone, in which its name servers have their addresses.
const HOST = 'dnshost.example';
zones.set(
  HOST,
  NAME_SERVERS.map((value, n) => ({ name: `ns${n + 1}.${HOST}`, ttl: 3600, type: 'A', value })),
);

function keep(domain: string, records: ZoneRecord[]): void {
  zones.set(domain, records);
  writeFileWhole(place('zones', `${domain}.zone`), writeMasterFile(domain, records));
}

const CHECKING_DISABLED = 0x10;
const AUTHORITATIVE = 0x400;
const RECURSION_AVAILABLE = 0x80;
const remembered = new Map<string, { response: dns.Packet; at: number }>();

/** A zone that another name server answers for (a delegation): its suffix, and where that server listens. */
const [forwardZone = '', forwardHost = '', forwardPort = ''] = (process.env.BACKLOT_DNS_FORWARD ?? '').split(' ');

/** Asks the delegated server on the asker's behalf; also follows an alias of ours that leads there. Null where nothing is delegated. */
async function forwarded(query: dns.DecodedPacket, message: Buffer): Promise<dns.Packet | null> {
  const question = query.questions?.[0];
  if (!forwardZone || !question) return null;
  const below = (name: string) => name.toLowerCase().endsWith(`.${forwardZone}`);
  const own = below(question.name) ? null : answer(zones, query);
  const alias = own?.answers?.filter((record) => record.type === 'CNAME').at(-1);
  const target = alias && 'data' in alias ? String(alias.data) : '';
  if (own && !below(target)) return null;
  const asked = own
    ? dns.encode({ type: 'query', id: query.id, flags: query.flags, questions: [{ ...question, name: target }] })
    : message;
  const reply = await new Promise<dns.DecodedPacket | null>((resolve) => {
    const socket = createSocket('udp4');
    const end = (packet: dns.DecodedPacket | null) => {
      clearTimeout(timer);
      socket.close();
      resolve(packet);
    };
    const timer = setTimeout(() => end(null), 1_000);
    socket.on('message', (bytes) => end(dns.decode(bytes)));
    socket.on('error', () => end(null));
    socket.send(asked, Number(forwardPort), forwardHost);
  });
  if (!reply) return { type: 'response', id: query.id, flags: 2, questions: query.questions, answers: [] };
  return { ...reply, id: query.id, questions: query.questions, answers: [...(own?.answers ?? []), ...(reply.answers ?? [])] };
}

async function respond(message: Buffer, at: string): Promise<{ query: dns.Packet; response: dns.Packet } | null> {
  if (mood === 'silent') return null;
  let query: dns.DecodedPacket;
  try {
    query = dns.decode(message);
  } catch {
    return null;
  }
  const fresh = (await forwarded(query, message)) ?? answer(zones, query);
  const refuse = (code: number) => ({ query, response: { ...fresh, flags: code, answers: [], authorities: [] } });
  if (mood === 'failing') return refuse(2);
  if (at !== RESOLVER) return mood === 'lame' ? refuse(5) : { query, response: fresh };
  if (mood === 'bogus' && ((query.flags ?? 0) & CHECKING_DISABLED) === 0) return refuse(2);
  const response = { ...fresh, flags: ((fresh.flags ?? 0) & ~AUTHORITATIVE) | RECURSION_AVAILABLE };
  if (mood !== 'remembering') return { query, response };
  const now = (await worldNow()).getTime();
  const question = query.questions?.[0];
  const key = `${question?.type} ${question?.name.toLowerCase()}`;
  const old = remembered.get(key);
  const ttl = (packet: dns.Packet) =>
    Math.min(
      ...[...(packet.answers ?? []), ...(packet.authorities ?? [])].map((record) => ('ttl' in record ? (record.ttl ?? 0) : 0)),
      86_400,
    );
  if (!old || now > old.at + ttl(old.response) * 1000) remembered.set(key, { response, at: now });
  const { response: kept, at: since } = remembered.get(key)!;
  const age = Math.floor((now - since) / 1000);
  return {
    query,
    response: {
      ...kept,
      id: query.id,
      answers: kept.answers?.map(
        (record) => ({ ...record, ttl: Math.max(0, ('ttl' in record ? (record.ttl ?? 0) : 0) - age) }) as dns.Answer,
      ),
    },
  };
}

const dnsPort = portOf('BACKLOT_DNS_PORT');
for (const address of [RESOLVER, ...NAME_SERVERS]) {
  const udp = createSocket('udp4');
  udp.on('message', (message, from) => {
    void respond(message, address).then(
      (found) => found && udp.send(encodeUdp(found.response, found.query), from.port, from.address),
    );
  });
  udp.bind(dnsPort, address);

  createServer((socket) => {
    let pending = Buffer.alloc(0);
    socket.on('error', () => socket.destroy());
    socket.on('data', async (chunk) => {
      pending = Buffer.concat([pending, chunk]);
      while (pending.length >= 2 && pending.length >= 2 + pending.readUInt16BE(0)) {
        const end = 2 + pending.readUInt16BE(0);
        const message = pending.subarray(2, end);
        pending = pending.subarray(end);
        const found = await respond(message, address);
        if (!found) continue;
        const body = dns.encode(found.response);
        const length = Buffer.alloc(2);
        length.writeUInt16BE(body.length);
        socket.write(Buffer.concat([length, body]));
      }
    });
  }).listen(dnsPort, address);
}

const DOMAIN = /^[a-z0-9-]+(\.[a-z0-9-]+)+$/;

function zonePage(domain: string, note = ''): string {
  const rows = (zones.get(domain) ?? [])
    .map(
      (r, n) =>
        `<tr><td class="mono">${esc(r.name)}</td><td>${r.type}</td><td class="mono">${esc(r.type === 'MX' ? `${r.priority} ${r.value}` : r.value)}</td><td><form method="post" action="/zones/${domain}/remove"><button name="n" value="${n}">Remove</button></form></td></tr>`,
    )
    .join('');
  return worldPage(
    'The DNS host',
    domain,
    `<p><a href="/">All zones</a></p><h1>${esc(domain)}</h1>${note ? `<p class="fail" role="alert">${esc(note)}</p>` : ''}<table><tr><th>Name</th><th>Type</th><th>Value</th><th></th></tr>${rows}</table>
<h2>Add a record</h2><form method="post" action="/zones/${domain}/add"><label>Host <input name="host" value="@" size="40"></label><label>Type <select name="type">${['TXT', 'CNAME', 'MX', 'A', 'AAAA', 'NS', 'PTR'].map((t) => `<option>${t}</option>`).join('')}</select></label><label>Value <textarea name="value" rows="4"></textarea></label><button>Add record</button></form>
<h2>Paste a zone file</h2><form method="post" action="/zones/${domain}/import"><label>Master file <textarea name="text" rows="8"></textarea></label><button name="how" value="add">Add these records</button> <button name="how" value="replace">Replace the whole zone</button></form>`,
  );
}

/** Puts imported records in: single-valued ones (CNAME, and TXT of the same kind) take the place of what stood at their name. */
function merge(old: ZoneRecord[], added: ZoneRecord[]): ZoneRecord[] {
  const kind = (r: ZoneRecord) =>
    r.type === 'TXT'
      ? `TXT ${/^v=\w+/i.exec(r.value)?.[0] ?? r.value}`
      : r.type === 'MX' || r.type === 'NS'
        ? `${r.type} ${r.value}`
        : r.type;
  const replaced = new Set(added.map((r) => `${r.name} ${kind(r)}`));
  return [...old.filter((r) => !replaced.has(`${r.name} ${kind(r)}`)), ...added];
}

serve('DNS host', portOf('BACKLOT_DNS_PAGE_PORT'), (ask) => {
  if (ask.path === '/') {
    const list = [...zones.keys()]
      .sort()
      .map((zone) => `<li><a href="/zones/${zone}">${esc(zone)}</a> (${zones.get(zone)?.length} records)</li>`);
    return {
      body: worldPage(
        'The DNS host',
        'Zones',
        `<h1>Zones</h1><ul>${list.join('')}</ul><form method="post" action="/zones"><label>New zone <input name="domain" placeholder="lanternfish.example"></label><button>Open zone</button></form>
<h2>Mood</h2><p>The name servers and the resolver are <b>${mood}</b>.</p><form method="post" action="/mood">${MOODS.map((m) => `<button name="mood" value="${m}">${m}</button>`).join(' ')}</form>`,
      ),
    };
  }
  if (ask.method === 'POST' && ask.path === '/mood') {
    mood = MOODS.find((wanted) => wanted === ask.fields.get('mood')) ?? mood;
    remembered.clear();
    return { seeOther: '/' };
  }
  if (ask.method === 'POST' && ask.path === '/zones') {
    const domain = (ask.fields.get('domain') ?? '').trim().toLowerCase();
    if (DOMAIN.test(domain) && !zones.has(domain)) keep(domain, []);
    return { seeOther: DOMAIN.test(domain) ? `/zones/${domain}` : '/' };
  }
  const [, root, domain = '', act] = ask.path.split('/');
  if (root === 'api' && ask.method === 'PUT' && DOMAIN.test(domain)) {
    const { records, faults } = readMasterFile(ask.body, domain);
    keep(domain, records);
    return asJson({ records: records.length, faults });
  }
  if (root !== 'zones' || !zones.has(domain)) return notFound;
  const old = zones.get(domain) ?? [];
  if (!act) return { body: zonePage(domain) };
  if (ask.method !== 'POST') return notFound;
  if (act === 'remove')
    keep(
      domain,
      old.filter((_, n) => n !== Number(ask.fields.get('n'))),
    );
  if (act === 'add') {
    const type = (ask.fields.get('type') ?? '') as ZoneRecord['type'];
    const host = (ask.fields.get('host') ?? '@').trim().toLowerCase().replace(/\.$/, '');
    const name =
      host === '@' || host === '' ? domain : host === domain || host.endsWith(`.${domain}`) ? host : `${host}.${domain}`;
    const tokens = valueTokens(ask.fields.get('value') ?? '', type);
    // A bare name typed as a value is taken as absolute, as most DNS hosts take it.
    const value = ['CNAME', 'NS', 'PTR', 'MX'].includes(type)
      ? tokens.map((t, i) =>
          i === tokens.length - 1 && t.text.includes('.') ? { ...t, text: `${t.text.replace(/\.$/, '')}.` } : t,
        )
      : tokens;
    const record = makeRecord(name, type, value, 3600, domain);
    if (!record) return { status: 422, body: zonePage(domain, `This value does not fit a ${type} record. Nothing was changed.`) };
    keep(domain, [...old, record]);
  }
  if (act === 'import') {
    const { records, faults } = readMasterFile(ask.fields.get('text') ?? '', domain);
    if (faults.length)
      return { status: 422, body: zonePage(domain, `Line ${faults[0]?.line}: ${faults[0]?.text}. Nothing was changed.`) };
    keep(domain, ask.fields.get('how') === 'replace' ? records : merge(old, records));
  }
  return { seeOther: `/zones/${domain}` };
});
