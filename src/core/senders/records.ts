/** The DNS records that prove a writer's domain, and what they are for. Pure data; `examine.ts` holds them against answers. */
export type RecordPurpose =
  | 'dkim'
  | 'dkim-next'
  | 'dkim-ed25519'
  | 'spf'
  | 'return-path'
  | 'dmarc'
  | 'links'
  | 'replies'
  | 'logo';
export type WantedRecord = {
  purpose: RecordPurpose;
  title: string;
  /** What it is, and in a sentence what it does. */
  explains: string;
  why: string;
  type: 'TXT' | 'CNAME' | 'MX';
  /** The host as most DNS hosts want it typed: relative to the zone they manage, `@` for the zone itself. */
  host: string;
  /** The same host absolute, without a trailing dot. */
  name: string;
  /** What has to stand there; '' where we only look (replies, logo). */
  value: string;
  /** The key that has to be found at the end of an alias; '' where the value itself is what is compared. */
  behind: string;
  /** Letters leave only when every needed record is right. */
  needed: boolean;
};

/** The names at the installation that a writer's records point to. */
export type Installation = {
  spfHost: string;
  returnPathTarget: string;
  reportsDomain: string;
  linksTarget: string;
  sendingAddresses: string[];
};
/** `alias` is where the key is served from, when the writer publishes an alias to it instead of the key itself. */
export type DkimIdentity = { selector: string; publicKey: string; algorithm: 'rsa' | 'ed25519'; alias?: string };
export type DomainIdentity = {
  domain: string;
  /** The zone the domain lies in at the DNS host, as far as known; the domain itself else. */
  zone?: string;
  active: DkimIdentity;
  /** The next key, published before it is used. */
  next?: DkimIdentity;
  /** An Ed25519 key beside the active one (RFC 8463). */
  second?: DkimIdentity;
  reportsToken: string;
};

export const RETURN_PATH_HOST = 'bounce';
export const LINKS_HOST = 'go';
/** What DNS hosts use when nothing else is said. */
export const TTL_SECONDS = 3600;

/** The envelope domain of letters from a domain: aligned with it in relaxed mode (RFC 7489 3.1.2). */
export const returnPathDomain = (domain: string) => `${RETURN_PATH_HOST}.${domain}`;

/** A name as it is typed at the DNS host that manages a zone. */
export function relativeHost(name: string, zone: string): string {
  if (name === zone) return '@';
  return name.endsWith(`.${zone}`) ? name.slice(0, -zone.length - 1) : name;
}

/**
 * The records of a domain in the order a writer publishes them. DKIM keys: RFC 6376 3.6.1 and RFC 8463. SPF: RFC 7208. DMARC: RFC 7489
 * 6.3, starting at p=none so that nothing is refused by surprise. The last two are only looked at.
 */
export function wantedRecords(identity: DomainIdentity, installation: Installation): WantedRecord[] {
  const { domain, active, next, second } = identity;
  const zone = identity.zone ?? domain;
  const record = (
    purpose: RecordPurpose,
    title: string,
    explains: string,
    why: string,
    type: WantedRecord['type'],
    name: string,
    value: string,
    needed: boolean,
  ) => ({ purpose, title, explains, why, type, host: relativeHost(name, zone), name, value, behind: '', needed });
  const key = (
    purpose: RecordPurpose,
    title: string,
    explains: string,
    why: string,
    of: DkimIdentity,
    needed: boolean,
  ): WantedRecord => {
    const name = `${of.selector}._domainkey.${domain}`;
    const text = `v=DKIM1; k=${of.algorithm}; p=${of.publicKey}`;
    if (!of.alias) return record(purpose, title, explains, why, 'TXT', name, text, needed);
    return { ...record(purpose, title, explains, why, 'CNAME', name, of.alias, needed), behind: text };
  };
  return [
    key(
      'dkim',
      'Signature',
      'DKIM, 2048-bit key',
      'Lets mailboxes see that a letter is yours and was not changed on the way.',
      active,
      true,
    ),
    ...(second
      ? [
          key(
            'dkim-ed25519',
            'Second signature',
            'DKIM, Ed25519 key',
            'A shorter, newer kind of signature beside the first. Mailboxes that do not know it pass over it.',
            second,
            false,
          ),
        ]
      : []),
    ...(next
      ? [
          key(
            'dkim-next',
            'Next signature',
            'DKIM, for changing keys',
            'The key that takes over next. It has to stand there before it is used.',
            next,
            false,
          ),
        ]
      : []),
    record(
      'spf',
      'Who may send',
      'SPF',
      'Names the servers that may send as you.',
      'TXT',
      domain,
      `v=spf1 include:${installation.spfHost} ~all`,
      true,
    ),
    record(
      'return-path',
      'Bounces',
      'return path',
      'Letters that cannot be delivered come back to us, so that dead addresses leave your list.',
      'CNAME',
      returnPathDomain(domain),
      installation.returnPathTarget,
      true,
    ),
    record(
      'dmarc',
      'Policy',
      'DMARC',
      'Says what mailboxes do with mail that only pretends to be yours, and sends reports.',
      'TXT',
      `_dmarc.${domain}`,
      `v=DMARC1; p=none; rua=mailto:${identity.reportsToken}@${installation.reportsDomain}`,
      true,
    ),
    record(
      'links',
      'Links and pictures',
      'link host',
      'Links in your letters show your own name instead of ours.',
      'CNAME',
      `${LINKS_HOST}.${domain}`,
      installation.linksTarget,
      false,
    ),
    record(
      'replies',
      'Replies',
      'MX',
      'Where answers to your letters go. We only look whether somebody takes them.',
      'MX',
      domain,
      '',
      false,
    ),
    record(
      'logo',
      'Logo in the inbox',
      'BIMI',
      'Some mailboxes show a logo beside letters of domains with a strict policy.',
      'TXT',
      `default._bimi.${domain}`,
      '',
      false,
    ),
  ];
}
