import { createHash } from 'node:crypto';
import type { Resolver } from '@/server/dns/resolver';

/** How many small domains there are, and how they are hosted: most at some hosters, the others at hosts of their own. */
export const SMALL_DOMAINS = 24_000;
const HOSTERS = 200;
const OWN_HOST_SHARE = 0.3;

const number = (text: string) => createHash('md5').update(text).digest().readUInt32BE(0);
/** Is this one of the small domains? They are called d0.small.example, d1.small.example … */
const small = (domain: string) => /^d(\d+)\.small\.example$/.exec(domain)?.[1];

/** The invented outside world's DNS: every provider and every host has an address of its own on loopback, where the sink listens. */
export const outsideResolver = (): Resolver => {
  const look = async () => ({ kind: 'none' as const, exists: false, ttl: 1 });
  return {
    look,
    authority: async () => ({ zone: null, servers: [], look, disagreed: () => [] }),
    mailHosts: async (domain) => {
      const n = small(domain);
      if (n === undefined) return [{ host: `mx.${domain}`, rank: 10 }];
      const own = Number(n) < SMALL_DOMAINS * OWN_HOST_SHARE;
      return [{ host: own ? `mail.${domain}` : `mx.hoster${Number(n) % HOSTERS}.example`, rank: 10 }];
    },
    addresses: async (host) => {
      const n = number(host);
      return [`127.${1 + (n % 250)}.${(n >>> 8) & 255}.${1 + ((n >>> 16) % 250)}`];
    },
  };
};

/** The environment of whatever is measured over one database. */
export const benchEnv = (databaseUrl: string) => ({
  INKSET_DATABASE_URL: databaseUrl,
  INKSET_SECRET: 'a secret that is long enough for a bench',
  INKSET_WEB_ORIGIN: 'https://inkset.example',
  INKSET_LINK_ORIGIN: 'https://go.inkset.example',
  INKSET_MAIL_DOMAIN: 'inkset.example',
});
