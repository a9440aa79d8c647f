import { Parser } from 'htmlparser2';
import ipaddr from 'ipaddr.js';
import { getDomain } from 'tldts';
import { Fault } from '../faults';

/** What a domain asked of whoever got mail in its name, as the reporter saw it. */
export type PublishedPolicy = {
  domain: string;
  /** none, quarantine or reject; and for its subdomains. */
  p: string;
  sp: string;
  pct: number;
  /** Strict (s) or relaxed (r) alignment of signature and return path. */
  adkim: string;
  aspf: string;
};
/** Mails of a report that are alike in all that matters. */
export type DmarcRow = {
  ip: string | null;
  mails: number;
  disposition: 'none' | 'quarantine' | 'reject';
  /** Did the signature, and the return path, belong to the domain and hold? */
  dkim: boolean;
  spf: boolean;
  /** Why its policy was not followed, as the reporter says: forwarded, mailing_list, sampled_out … */
  reasons: string[];
  from: string;
  signatures: { domain: string; selector: string; result: string }[];
  returnPath: { domain: string; result: string } | null;
};
export type DmarcReport = {
  reporter: string;
  contact: string;
  id: string;
  from: Date;
  to: Date;
  policy: PublishedPolicy;
  rows: DmarcRow[];
};

/** More kinds of mail than this in one report are added up by what was done to them. */
const MOST_ROWS = 20_000;
const MOST_DEPTH = 12;
const MOST_FIELD = 300;
/** So many names of elements are told apart at one place. */
const MOST_NAMES = 100;
const LARGEST_COUNT = 2_000_000_000;

const ODD = /[\u0000-\u001f\u007f-\u009f\u200b-\u200f\u2028-\u202f\u2060-\u206f\ufeff]/;
const tidy = (text: string) => (ODD.test(text) ? text.replace(new RegExp(`${ODD.source}+`, 'g'), ' ') : text).trim();
const ENTITIES: Record<string, string> = { amp: '&', lt: '<', gt: '>', quot: '"', apos: "'" };
/** Text with the five entities of XML and those of numbers in it; any other stays what it is. */
const plainText = (text: string) =>
  text.includes('&')
    ? text.replace(/&(?:#(\d{1,7})|#x([0-9a-f]{1,6})|([a-z]{2,4}));/gi, (all, tens?: string, hex?: string, name?: string) => {
        if (name) return ENTITIES[name] ?? all;
        const code = tens ? Number(tens) : Number.parseInt(hex!, 16);
        return code <= 0x10ffff && (code < 0xd800 || code > 0xdfff) ? String.fromCodePoint(code) : all;
      })
    : text;
const read = (text: string) => plainText(text.slice(0, MOST_FIELD));
function small(text: string): string {
  const plain = tidy(text).toLowerCase();
  return plain.endsWith('.') ? plain.slice(0, -1) : plain;
}
const count = (text: string) => Math.min(LARGEST_COUNT, Math.max(0, Math.trunc(Number(text) || 0)));

/** What is read of a report, by where it stands below its root, once; and of each of its records. */
const FIELDS = new Set([
  'report_metadata/org_name',
  'report_metadata/email',
  'report_metadata/report_id',
  'report_metadata/date_range/begin',
  'report_metadata/date_range/end',
  'policy_published/domain',
  'policy_published/p',
  'policy_published/sp',
  'policy_published/pct',
  'policy_published/adkim',
  'policy_published/aspf',
]);
const ROW_FIELDS = {
  'record/row/count': 'count',
  'record/row/source_ip': 'ip',
  'record/row/policy_evaluated/disposition': 'disposition',
  'record/row/policy_evaluated/dkim': 'dkim',
  'record/row/policy_evaluated/spf': 'spf',
  'record/identifiers/header_from': 'from',
} as const;
type RowField = (typeof ROW_FIELDS)[keyof typeof ROW_FIELDS];
const REASON = 'record/row/policy_evaluated/reason/type';
const SIGNATURE = 'record/auth_results/dkim';
const RETURNED = 'record/auth_results/spf';

/** A place where elements stand, known by its path once, so that a million elements are read without writing a million paths. */
class Place {
  readonly #below = new Map<string, Place>();
  readonly row: RowField | undefined;
  readonly isField: boolean;

  constructor(
    readonly name: string,
    /** Below the root; nothing of what is too deep, or is one name too many, to be of a report. */
    readonly path: string | null,
    readonly parent: Place | null,
  ) {
    this.row = path ? ROW_FIELDS[path as keyof typeof ROW_FIELDS] : undefined;
    this.isField = path !== null && FIELDS.has(path);
  }

  at(name: string): Place {
    const known = this.#below.get(name);
    if (known) return known;
    const path = this.path === null || this.#below.size >= MOST_NAMES ? null : this.path === '' ? name : `${this.path}/${name}`;
    const made = new Place(name, path, this);
    if (this.#below.size < MOST_NAMES) this.#below.set(name, made);
    return made;
  }
}

/**
 * Reads an aggregate report (RFC 7489, appendix C, and what came after it) piece by piece, so that one of any length is read in the same memory: rows that are alike
 * are added up as they come. Names of elements count without their prefix, in any order; what is not known is passed over. Entities of its own and external ones
 * stay what they are.
 */
export class DmarcReader {
  readonly #parser: Parser;
  /** Where the reader stands: above the root, at it, below it. */
  #depth = 0;
  #place = new Place('', '', null);
  #text = '';
  readonly #fields = new Map<string, string>();
  #row: Partial<Record<RowField, string>> = {};
  #reasons: string[] = [];
  #signatures: DmarcRow['signatures'] = [];
  #returnPaths: { domain: string; result: string; scope: string }[] = [];
  readonly #rows = new Map<string, DmarcRow>();
  #seen = false;
  #fault: Fault | null = null;

  constructor() {
    this.#parser = new Parser(
      {
        // No attribute says anything.
        onopentagname: (name) => this.#open(nameOf(name)),
        ontext: (text) => {
          if (this.#text.length < MOST_FIELD) this.#text += text;
        },
        onclosetag: () => this.#close(),
      },
      { xmlMode: true, decodeEntities: false },
    );
  }

  /** Takes the next piece. Throws a fault for what is no such report. */
  write(piece: string): void {
    this.#parser.write(piece);
    if (this.#fault) throw this.#fault;
  }

  /** The report, once all of it was written. Throws a fault for one that is none, or breaks off: counted by its half, the whole would be one that came twice. */
  end(): DmarcReport {
    const isOpen = this.#depth > 0;
    this.#parser.end();
    if (this.#fault) throw this.#fault;
    if (isOpen) throw new Fault('invalid', 'This DMARC report breaks off in the middle. It counts once it comes whole.');
    const field = (name: string) => this.#fields.get(name) ?? '';
    const [from, to] = ['begin', 'end'].map((name) => new Date(Number(field(`report_metadata/date_range/${name}`)) * 1_000));
    const domain = small(field('policy_published/domain'));
    if (!this.#seen) throw new Fault('invalid', 'This is no DMARC report: it has no element called “feedback”.');
    if (!domain || Number.isNaN(from!.getTime()) || Number.isNaN(to!.getTime()) || to! < from!)
      throw new Fault('invalid', 'This DMARC report is not whole: its domain or its days are missing.');
    const strict = (name: string) => (small(field(`policy_published/${name}`)) === 's' ? 's' : 'r');
    const policy = (name: string, without: string) => {
      const said = small(field(`policy_published/${name}`));
      return ['none', 'quarantine', 'reject'].includes(said) ? said : without;
    };
    const p = policy('p', 'none');
    const pct = field('policy_published/pct');
    return {
      reporter: tidy(field('report_metadata/org_name')).slice(0, 100) || 'nobody named',
      contact: tidy(field('report_metadata/email')).slice(0, 200),
      id: tidy(field('report_metadata/report_id')).slice(0, 200),
      from: from!,
      to: to!,
      policy: {
        domain,
        p,
        sp: policy('sp', p),
        pct: pct === '' ? 100 : Math.min(100, count(pct)),
        adkim: strict('adkim'),
        aspf: strict('aspf'),
      },
      rows: [...this.#rows.values()].sort((a, b) => b.mails - a.mails),
    };
  }

  #open(name: string): void {
    this.#depth += 1;
    this.#text = '';
    if (this.#depth === 1) {
      if (name !== 'feedback')
        this.#fault ??= new Fault('invalid', 'This is no DMARC report: it has no element called “feedback”.');
      else this.#seen = true;
      return;
    }
    if (this.#depth > MOST_DEPTH) {
      this.#fault ??= new Fault('invalid', 'This report is nested deeper than any report is.');
      return;
    }
    this.#place = this.#place.at(name);
    const { path } = this.#place;
    if (path === 'record') {
      this.#row = {};
      this.#reasons = [];
      this.#signatures = [];
      this.#returnPaths = [];
    } else if (path === SIGNATURE) this.#signatures.push({ domain: '', selector: '', result: '' });
    else if (path === RETURNED) this.#returnPaths.push({ domain: '', result: '', scope: '' });
  }

  #close(): void {
    this.#depth -= 1;
    if (this.#depth < 1 || this.#depth >= MOST_DEPTH) return;
    const { name, path, row, isField, parent } = this.#place;
    const text = this.#text;
    this.#text = '';
    this.#place = parent!;
    if (row) this.#row[row] ??= read(text);
    else if (path === 'record') this.#keep();
    else if (path === REASON) this.#reasons.push(small(read(text)));
    else if (isField) {
      if (!this.#fields.has(path!)) this.#fields.set(path!, read(text));
    } else if (parent?.path === SIGNATURE) {
      if (name === 'domain' || name === 'selector' || name === 'result') this.#signatures.at(-1)![name] = small(read(text));
    } else if (parent?.path === RETURNED) {
      if (name === 'domain' || name === 'result' || name === 'scope') this.#returnPaths.at(-1)![name] = small(read(text));
    }
  }

  #keep(): void {
    const said = (name: RowField) => small(this.#row[name] ?? '');
    const mails = count(said('count'));
    if (mails === 0) return;
    const address = said('ip');
    const disposition = said('disposition');
    const returned = this.#returnPaths.find(({ scope }) => scope !== 'helo') ?? this.#returnPaths[0];
    const [from, dkim, spf] = [said('from'), said('dkim'), said('spf')];
    // Rows are alike where all that is kept of them is.
    const whole = [
      address,
      disposition,
      dkim,
      spf,
      from,
      ...this.#reasons,
      ...this.#signatures.flatMap(({ domain, selector, result }) => [domain, selector, result]),
      returned?.domain,
      returned?.result,
    ].join('\n');
    const same = this.#rows.get(whole);
    if (same) {
      same.mails = Math.min(LARGEST_COUNT, same.mails + mails);
      return;
    }
    const row: DmarcRow = {
      ip: addressOf(address),
      mails,
      disposition: disposition === 'quarantine' || disposition === 'reject' ? disposition : 'none',
      dkim: dkim === 'pass',
      spf: spf === 'pass',
      reasons: this.#reasons.filter(Boolean).slice(0, 5),
      from,
      signatures: this.#signatures.filter(({ domain }) => domain !== '').slice(0, 10),
      returnPath: returned?.domain ? { domain: returned.domain, result: returned.result } : null,
    };
    // The long tail of a flood is added up.
    const kept = this.#rows.size < MOST_ROWS;
    const key = kept ? whole : `${row.disposition} ${row.dkim} ${row.spf}`;
    const known = this.#rows.get(key);
    if (known) known.mails = Math.min(LARGEST_COUNT, known.mails + mails);
    else this.#rows.set(key, kept ? row : { ...row, ip: null, reasons: [], from: '', signatures: [], returnPath: null });
  }
}

/** An address as it is written shortest; null for what is none. */
function addressOf(text: string): string | null {
  if (/^(?:(?:25[0-5]|2[0-4]\d|1?\d?\d)(?:\.(?!$)|$)){4}$/.test(text)) return text;
  return ipaddr.isValid(text) ? ipaddr.process(text).toString() : null;
}

const NAMES = new Map<string, string>();
/** An element's name without its prefix; reports have few of them. */
function nameOf(name: string): string {
  const known = NAMES.get(name);
  if (known !== undefined) return known;
  const bare = name.slice(name.indexOf(':') + 1).toLowerCase();
  if (NAMES.size < 1_000) NAMES.set(name, bare);
  return bare;
}

/** What mail in a domain's name was, by who sent it. */
export const SOURCE_KINDS = {
  ours: ['Yours, from here', 'Letters that left from here, and were believed.'],
  'ours, broken': ['Yours, and not believed', 'Left from here, and neither its signature nor its return path was believed.'],
  'others of yours': [
    'Yours, from elsewhere',
    'Another service that may send in your name: your own mailbox, a shop, a helpdesk.',
  ],
  forwarded: ['Forwarded', 'Your mail, passed on by a reader’s own address or by a mailing list.'],
  stranger: ['Strangers', 'Mail in your name by somebody whom nothing connects with you.'],
} as const satisfies Record<string, readonly [name: string, meaning: string]>;
export type SourceKind = keyof typeof SOURCE_KINDS;

export type SourceDetail = {
  from: string;
  signatures: DmarcRow['signatures'];
  returnPath: DmarcRow['returnPath'];
  reasons: string[];
};
export type DmarcSource = {
  ip: string | null;
  kind: SourceKind;
  /** By whose signature, or else return path, it is known; empty where neither held. */
  who: string;
  mails: number;
  aligned: number;
  quarantined: number;
  rejected: number;
  detail: SourceDetail;
};
/** What is known of a domain's own mail: the names under which letters of here are signed, their return path, and addresses known to be ours. */
export type OwnMail = { domain: string; selectors: readonly string[]; returnPath: string; addresses: ReadonlySet<string> };

const FORWARDING = new Set(['forwarded', 'mailing_list', 'trusted_forwarder']);
const below = (name: string, domain: string) => name === domain || name.endsWith(`.${domain}`);

/** Addresses of a report from which our own return path was believed: nobody else may send from there. */
export const ownAddresses = (rows: readonly DmarcRow[], own: OwnMail): string[] => [
  ...new Set(
    rows.flatMap((row) =>
      row.ip && row.returnPath?.domain === own.returnPath && row.returnPath.result === 'pass' ? [row.ip] : [],
    ),
  ),
];

/** What one kind of mail is: ours, one of the writer's other services, forwarded, or a stranger's. */
export function kindOf(row: DmarcRow, own: OwnMail): SourceKind {
  const aligned = row.dkim || row.spf;
  const signed = row.signatures.filter(({ domain }) => below(domain, own.domain));
  const byUs = signed.filter(({ selector, domain }) => own.selectors.includes(selector) && domain === own.domain);
  const fromUs =
    (row.ip !== null && own.addresses.has(row.ip)) ||
    (row.returnPath?.domain === own.returnPath && row.returnPath.result === 'pass');
  if (fromUs) return aligned ? 'ours' : 'ours, broken';
  // Signed here, and brought by somebody else: whether the signature outlived that or not.
  if (byUs.length) return 'forwarded';
  if (aligned) return 'others of yours';
  if (row.reasons.some((reason) => FORWARDING.has(reason))) return 'forwarded';
  if (row.returnPath?.domain === own.returnPath) return 'forwarded';
  return signed.some(({ result }) => result !== 'none') && row.returnPath?.result === 'pass' ? 'forwarded' : 'stranger';
}

/** Rows of a report by where they came from and what they are; the largest `most` of them, and the rest added up by what they are. */
export function sourcesOf(report: DmarcReport, own: OwnMail, most = 2_000): DmarcSource[] {
  const known = { ...own, addresses: new Set([...own.addresses, ...ownAddresses(report.rows, own)]) };
  const sources = new Map<string, DmarcSource>();
  const add = (
    key: string,
    first: Omit<DmarcSource, 'mails' | 'aligned' | 'quarantined' | 'rejected'>,
    of: Pick<DmarcSource, 'mails' | 'aligned' | 'quarantined' | 'rejected'>,
  ) => {
    const source = sources.get(key) ?? { ...first, mails: 0, aligned: 0, quarantined: 0, rejected: 0 };
    sources.set(key, source);
    for (const field of ['mails', 'aligned', 'quarantined', 'rejected'] as const)
      source[field] = Math.min(LARGEST_COUNT, source[field] + of[field]);
  };
  for (const row of report.rows) {
    const kind = kindOf(row, known);
    const passing =
      row.signatures.find(({ result }) => result === 'pass')?.domain ??
      (row.returnPath?.result === 'pass' ? row.returnPath.domain : '');
    const who = passing ? (getDomain(passing) ?? passing) : '';
    add(
      `${row.ip} ${kind} ${who}`,
      {
        ip: row.ip,
        kind,
        who,
        detail: { from: row.from, signatures: row.signatures, returnPath: row.returnPath, reasons: row.reasons },
      },
      {
        mails: row.mails,
        aligned: row.dkim || row.spf ? row.mails : 0,
        quarantined: row.disposition === 'quarantine' ? row.mails : 0,
        rejected: row.disposition === 'reject' ? row.mails : 0,
      },
    );
  }
  const sorted = [...sources.values()].sort((a, b) => b.mails - a.mails);
  sources.clear();
  for (const small of sorted.slice(most))
    add(
      small.kind,
      { ip: null, kind: small.kind, who: '', detail: { from: '', signatures: [], returnPath: null, reasons: [] } },
      small,
    );
  return [...sorted.slice(0, most), ...sources.values()];
}

export type KindTotals = Record<SourceKind, { mails: number; aligned: number }>;
export type PolicyStep = {
  /** What to ask for next; null where nothing stricter is left. */
  to: 'quarantine' | 'reject' | null;
  /** What it would have stopped of these days’ mail, by what that was. */
  stops: { kind: SourceKind; mails: number }[];
  /** Whether it can be taken now, and why not. */
  ready: boolean;
  why: string;
};

/** So many mails have to have been seen before a policy is advised on. */
const ENOUGH = 20;

/** The next step of a domain's policy, and what it would have stopped of the mail of these days. */
export function nextPolicy(policy: Pick<PublishedPolicy, 'p' | 'pct'>, totals: KindTotals): PolicyStep {
  const to = policy.p === 'reject' ? null : policy.p === 'quarantine' && policy.pct === 100 ? 'reject' : 'quarantine';
  const stops = (Object.keys(SOURCE_KINDS) as SourceKind[]).flatMap((kind) => {
    const mails = totals[kind].mails - totals[kind].aligned;
    return mails > 0 ? [{ kind, mails }] : [];
  });
  const of = (kind: SourceKind) => stops.find((stop) => stop.kind === kind)?.mails ?? 0;
  const seen = Object.values(totals).reduce((sum, { mails }) => sum + mails, 0);
  if (to === null)
    return { to, stops, ready: false, why: 'Your domain already asks for the strictest: whatever is not yours is turned away.' };
  if (seen < ENOUGH)
    return { to, stops, ready: false, why: 'Too little mail was reported so far to say what a stricter policy would stop.' };
  if (of('ours, broken') > 0)
    return {
      to,
      stops,
      ready: false,
      why: 'Some of your own mail is not believed yet. Mend that first, or it would be stopped too.',
    };
  if (of('others of yours') > 0)
    return { to, stops, ready: false, why: 'Another service of yours is not believed yet. Let it sign with your domain first.' };
  const forwarded = of('forwarded');
  const genuine = seen - totals.stranger.mails;
  if (to === 'reject' && genuine > 0 && forwarded / genuine > 0.02)
    return {
      to,
      stops,
      ready: false,
      why: 'Many of your readers have mail forwarded in ways that break signatures. “quarantine” loses less of it.',
    };
  return {
    to,
    stops,
    ready: true,
    why: of('stranger')
      ? 'All of your own mail is believed, so it would stop strangers, and what forwarding breaks.'
      : 'All of your own mail is believed, and nobody else was seen to use your name.',
  };
}
