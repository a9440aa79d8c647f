import { readFileSync } from 'node:fs';
import Joi from 'joi';
import type { KeyRing } from '@/core/keys';
import { type Networks, readNetworks } from '@/core/network';
import type { Patience } from '@/core/sending/patience';

export type Config = {
  databaseUrl: string;
  /** The current secret, at least 32 characters; keeps sessions. */
  secret: string;
  /** What links are signed and keys at rest are sealed with: the current secret and those before it, which old links and keys still open with. */
  keys: KeyRing;
  /** Where writers and readers find the pages, for example https://inkset.example. */
  webOrigin: string;
  /** Where links in letters and embedded forms point; in production the link host. */
  linkOrigin: string;
  /** The installation's own mail domain: from-address of account mails, target of return paths. */
  mailDomain: string;
  /** DNS servers to ask, as address or address:port; empty for the machine's own. */
  dnsServers: string[];
  /** The port on which name servers of zones listen: 53, except in the demo. */
  dnsAuthorityPort: number;
  /** The addresses letters leave from, as they stand in SPF. */
  sendingAddresses: string[];
  /** A mailbox that sends what it thought of a letter back to the return path (Authentication-Results, RFC 8601); '' where there is none. */
  testMailbox: string;
  /** Do links in letters use the writer's own link host once its record is right? Off where that name cannot be reached (the demo). */
  linkHosts: boolean;
  /** Where uploaded pictures are kept. */
  mediaDir: string;
  /** The port on which other people's mail servers listen: 25, except in the demo. */
  mxPort: number;
  mailroomPort: number;
  /** The address that each process listens on. */
  listen: Record<'web' | 'edge' | 'mailroom' | 'names', string>;
  webPort: number;
  /** Whose word counts about whom they speak for. */
  trustedProxies: Networks;
  /** Key and certificate for whoever brings mail, as PEM; null where the mailroom makes itself one. */
  tls: { key: string; cert: string } | null;
  /** The port on which keys behind aliases are served by DNS: 53, except in the demo. */
  namesPort: number;
  edgePort: number;
  /** Where the Backlot's clock is to be read; empty for the machine's own time. */
  clockUrl: string;
  /** Allows fetching from loopback addresses: the demo's blog. Never in production. */
  allowLoopback: boolean;
  /** Certificate authorities to trust beside those that everybody does, as PEM: of an SMTP service inside one's own network. '' for none. */
  trustedCa: string;
  /** How long answers of mail servers are waited for, where not as long as RFC 5321 asks. */
  patience: Partial<Patience>;
  feedSeconds: number;
  /** Events stay in the database for so many whole months before they are put away into files. */
  eventMonths: number;
  /** A form sent in sooner than this after it was made was filled in by a machine. */
  formSeconds: number;
  /** Who may open an account: anybody, or only the first person and whoever is invited. */
  signUp: 'open' | 'first';
  logLevel: string;
};

const origin = Joi.string().uri({ scheme: ['http', 'https'] });
const port = Joi.number().integer().min(1).max(65_535);

const schema = Joi.object({
  INKSET_DATABASE_URL: Joi.string()
    .uri({ scheme: ['postgres', 'postgresql'] })
    .required(),
  INKSET_SECRET: Joi.string().min(32).required(),
  INKSET_SECRET_VERSION: Joi.number().integer().min(1).max(255).default(1),
  INKSET_FORMER_SECRETS: Joi.string()
    .allow('')
    .default('')
    .pattern(/^\d{1,3}:.{32,}(\n\d{1,3}:.{32,})*$/)
    .messages({ 'string.pattern.base': 'INKSET_FORMER_SECRETS wants one VERSION:SECRET a line' }),
  INKSET_WEB_ORIGIN: origin.required(),
  INKSET_LINK_ORIGIN: origin.required(),
  INKSET_MAIL_DOMAIN: Joi.string().domain({ tlds: false }).required(),
  INKSET_DNS_SERVERS: Joi.string().allow('').default(''),
  INKSET_DNS_AUTHORITY_PORT: port.default(53),
  INKSET_SENDING_ADDRESSES: Joi.string().allow('').default(''),
  INKSET_TEST_MAILBOX: Joi.string().email({ tlds: false }).allow('').default(''),
  INKSET_LINK_HOSTS: Joi.boolean().default(true),
  INKSET_MEDIA_DIR: Joi.string().default('media'),
  INKSET_MX_PORT: port.default(25),
  INKSET_LISTEN: Joi.string().ip().default('127.0.0.1'),
  INKSET_WEB_LISTEN: Joi.string().ip(),
  INKSET_EDGE_LISTEN: Joi.string().ip(),
  INKSET_MAILROOM_LISTEN: Joi.string().ip(),
  INKSET_NAMES_LISTEN: Joi.string().ip(),
  INKSET_WEB_PORT: port.default(4600),
  INKSET_TRUSTED_PROXIES: Joi.string().allow('').default('127.0.0.1,::1'),
  INKSET_TLS_KEY: Joi.string(),
  INKSET_TLS_CERT: Joi.string(),
  INKSET_MAILROOM_PORT: port.default(25),
  INKSET_NAMES_PORT: port.default(53),
  INKSET_EDGE_PORT: port.default(4610),
  INKSET_CLOCK_URL: origin.allow('').default(''),
  INKSET_ALLOW_LOOPBACK: Joi.boolean().default(false),
  INKSET_TRUSTED_CA: Joi.string().allow('').default(''),
  INKSET_PATIENCE: Joi.string().allow('').default(''),
  INKSET_FEED_SECONDS: Joi.number().integer().min(1).default(300),
  INKSET_EVENT_MONTHS: Joi.number().integer().min(3).max(1_200).default(25),
  INKSET_FORM_SECONDS: Joi.number().min(0).max(60).default(2),
  INKSET_SIGN_UP: Joi.string().valid('open', 'first').default('first'),
  INKSET_LOG_LEVEL: Joi.string().valid('trace', 'debug', 'info', 'warn', 'error', 'silent').default('info'),
})
  .and('INKSET_TLS_KEY', 'INKSET_TLS_CERT')
  .unknown();

/** Reads the configuration from environment variables; throws one error that names every variable that is missing or wrong. */
export function readConfig(env: Record<string, string | undefined>): Config {
  const { value, error } = schema.validate(env, { abortEarly: false });
  if (error) {
    const lines = error.details.map((detail) => `  ${detail.message.replace(/"/g, '')}`);
    throw new Error(`The configuration is not complete:\n${lines.join('\n')}`);
  }
  return {
    databaseUrl: value.INKSET_DATABASE_URL,
    secret: value.INKSET_SECRET,
    keys: readKeys(value),
    webOrigin: value.INKSET_WEB_ORIGIN.replace(/\/$/, ''),
    linkOrigin: value.INKSET_LINK_ORIGIN.replace(/\/$/, ''),
    mailDomain: value.INKSET_MAIL_DOMAIN,
    dnsServers: value.INKSET_DNS_SERVERS.split(',').filter(Boolean),
    dnsAuthorityPort: value.INKSET_DNS_AUTHORITY_PORT,
    sendingAddresses: value.INKSET_SENDING_ADDRESSES.split(',').filter(Boolean),
    testMailbox: value.INKSET_TEST_MAILBOX,
    linkHosts: value.INKSET_LINK_HOSTS,
    mediaDir: value.INKSET_MEDIA_DIR,
    mxPort: value.INKSET_MX_PORT,
    listen: {
      web: value.INKSET_WEB_LISTEN ?? value.INKSET_LISTEN,
      edge: value.INKSET_EDGE_LISTEN ?? value.INKSET_LISTEN,
      mailroom: value.INKSET_MAILROOM_LISTEN ?? value.INKSET_LISTEN,
      names: value.INKSET_NAMES_LISTEN ?? value.INKSET_LISTEN,
    },
    webPort: value.INKSET_WEB_PORT,
    trustedProxies: readNetworks(
      value.INKSET_TRUSTED_PROXIES.split(',')
        .map((text: string) => text.trim())
        .filter(Boolean),
    ),
    tls: value.INKSET_TLS_KEY
      ? { key: readFileSync(value.INKSET_TLS_KEY, 'utf8'), cert: readFileSync(value.INKSET_TLS_CERT, 'utf8') }
      : null,
    mailroomPort: value.INKSET_MAILROOM_PORT,
    namesPort: value.INKSET_NAMES_PORT,
    edgePort: value.INKSET_EDGE_PORT,
    clockUrl: value.INKSET_CLOCK_URL,
    allowLoopback: value.INKSET_ALLOW_LOOPBACK,
    trustedCa: value.INKSET_TRUSTED_CA && readFileSync(value.INKSET_TRUSTED_CA, 'utf8'),
    patience: readPatience(value.INKSET_PATIENCE),
    feedSeconds: value.INKSET_FEED_SECONDS,
    eventMonths: value.INKSET_EVENT_MONTHS,
    formSeconds: value.INKSET_FORM_SECONDS,
    signUp: value.INKSET_SIGN_UP,
    logLevel: value.INKSET_LOG_LEVEL,
  };
}

function readKeys(value: Record<string, string | number>): KeyRing {
  const former = String(value.INKSET_FORMER_SECRETS)
    .split('\n')
    .filter(Boolean)
    .map((line): [number, string] => [Number(line.slice(0, line.indexOf(':'))), line.slice(line.indexOf(':') + 1)]);
  const current = Number(value.INKSET_SECRET_VERSION);
  if (former.some(([version]) => version === current))
    throw new Error('INKSET_SECRET_VERSION is the number of a former secret. Give the new one a number of its own.');
  return { current, secrets: new Map([...former, [current, String(value.INKSET_SECRET)]]) };
}

/** `greeting=2,end=600`: seconds by step. */
const readPatience = (text: string): Partial<Patience> =>
  Object.fromEntries(
    text
      .split(',')
      .filter(Boolean)
      .map((part) => part.split('='))
      .map(([step, seconds]) => [step, Number(seconds) * 1000]),
  );
