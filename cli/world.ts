import type { Home } from './home';
import { readState, writeState } from './home';
import { pickPort } from './ports';

const PORTS = {
  web: 4600,
  edge: 4610,
  mailroom: 4625,
  names: 4652,
  dns: 4653,
  smtp: 4654,
  relay: 4655,
  dnsPage: 4671,
  inbox: 4672,
  blog: 4673,
  clock: 4674,
} as const;
export type Ports = Record<keyof typeof PORTS, number>;

/** The ports of a home: those it had before where they are still free, else the next free ones. */
export async function choosePorts(home: Home, taken: Set<number>): Promise<Ports> {
  const before = readState<Partial<Ports>>(home, 'ports.json', {});
  const ports = {} as Ports;
  for (const name of Object.keys(PORTS) as (keyof Ports)[]) ports[name] = await pickPort(before[name] ?? PORTS[name], taken);
  writeState(home, 'ports.json', ports);
  return ports;
}

export type World = {
  ports: Ports;
  databaseUrl: string;
  backlot: boolean;
  clockStart?: string;
  /** What was set for a real installation; it goes before everything that is chosen here. */
  settings?: Record<string, string>;
};
export type ProcessPlan = {
  name: string;
  args: string[];
  env: Record<string, string>;
  health: string | { port: number; host?: string };
};

/** Where people meet the simulated world: names under localhost, which every browser takes for this machine's (RFC 6761 section 6.3). */
const NAMES = {
  web: 'inkset',
  edge: 'links.inkset',
  inbox: 'inboxes',
  blog: 'lanternfish',
  dnsPage: 'dns-host',
  clock: 'clock',
} as const satisfies Partial<Record<keyof Ports, string>>;
export const originOf = (ports: Ports, name: keyof typeof NAMES) => `http://${NAMES[name]}.localhost:${ports[name]}`;

/** The configuration of Inkset's own processes in this world. */
export function insideEnv(home: Home, world: World): Record<string, string> {
  const { ports } = world;
  return {
    INKSET_DATABASE_URL: world.databaseUrl,
    INKSET_SECRET: home.secrets.app,
    INKSET_WEB_PORT: String(ports.web),
    INKSET_EDGE_PORT: String(ports.edge),
    INKSET_MEDIA_DIR: `${home.dir}/media`,
    ...(world.backlot
      ? {
          INKSET_MAILROOM_PORT: String(ports.mailroom),
          INKSET_NAMES_PORT: String(ports.names),
          INKSET_WEB_ORIGIN: originOf(ports, 'web'),
          INKSET_LINK_ORIGIN: originOf(ports, 'edge'),
          INKSET_MAIL_DOMAIN: 'inkset.example',
          INKSET_DNS_SERVERS: `127.0.0.1:${ports.dns}`,
          INKSET_DNS_AUTHORITY_PORT: String(ports.dns),
          INKSET_SENDING_ADDRESSES: '127.0.0.1',
          INKSET_TEST_MAILBOX: 'verdicts@heronmail.example',
          INKSET_LINK_HOSTS: 'false',
          INKSET_MX_PORT: String(ports.smtp),
          INKSET_CLOCK_URL: `http://127.0.0.1:${ports.clock}`,
          INKSET_ALLOW_LOOPBACK: 'true',
          INKSET_SIGN_UP: 'open',
          INKSET_FEED_SECONDS: '10',
        }
      : {}),
    ...world.settings,
  };
}

function outsideEnv(home: Home, world: World): Record<string, string> {
  const { ports } = world;
  return {
    BACKLOT_DIR: `${home.dir}/backlot`,
    BACKLOT_CLOCK_PORT: String(ports.clock),
    BACKLOT_DNS_PORT: String(ports.dns),
    BACKLOT_DNS_FORWARD: `keys.inkset.example 127.0.0.1 ${ports.names}`,
    BACKLOT_DNS_PAGE_PORT: String(ports.dnsPage),
    BACKLOT_SMTP_PORT: String(ports.smtp),
    BACKLOT_RELAY_PORT: String(ports.relay),
    BACKLOT_INBOX_PORT: String(ports.inbox),
    BACKLOT_BLOG_PORT: String(ports.blog),
    BACKLOT_MAILROOM_PORT: String(ports.mailroom),
    ...(world.clockStart ? { BACKLOT_CLOCK_START: world.clockStart } : {}),
  };
}

/** Every process of a world: the Backlot's first, since Inkset's read its clock at start. */
export function plans(home: Home, world: World): ProcessPlan[] {
  const { ports } = world;
  const env = insideEnv(home, world);
  const http = (port: number, path = '/healthz', host = '127.0.0.1') =>
    `http://${host.includes(':') ? `[${host}]` : host}:${port}${path}`;
  /** Where a process of ours is asked whether it is well: where it was told to listen. */
  const at = (name: 'WEB' | 'EDGE' | 'MAILROOM' | 'NAMES') => {
    const listen = env[`INKSET_${name}_LISTEN`] ?? env.INKSET_LISTEN ?? '127.0.0.1';
    return {
      port: Number(env[`INKSET_${name}_PORT`] ?? (name === 'MAILROOM' ? 25 : 53)),
      host: ['0.0.0.0', '::'].includes(listen) ? '127.0.0.1' : listen,
    };
  };
  const script = (path: string) => ['--import', 'tsx', path];
  const outside = (name: string, path: string, health: ProcessPlan['health']) => ({
    name: `backlot ${name}`,
    args: script(path),
    env: outsideEnv(home, world),
    health,
  });
  const inside = (name: string, args: string[], health: ProcessPlan['health']) => ({
    name,
    args,
    env,
    health,
  });
  return [
    ...(world.backlot
      ? [
          outside('clock', 'backlot/clock/main.ts', http(ports.clock)),
          outside('dns', 'backlot/dns/main.ts', http(ports.dnsPage)),
          outside('mailboxes', 'backlot/mailboxes/main.ts', http(ports.inbox)),
          outside('relay', 'backlot/relay/main.ts', { port: ports.relay }),
          outside('blog', 'backlot/blog/main.ts', http(ports.blog)),
        ]
      : []),
    inside('mailroom', script('src/processes/mailroom.ts'), at('MAILROOM')),
    inside('edge', script('src/processes/edge.ts'), http(at('EDGE').port, '/healthz', at('EDGE').host)),
    inside('names', script('src/processes/names.ts'), at('NAMES')),
    inside('worker', script('src/processes/worker.ts'), { port: 0 }),
    inside('web', script('src/processes/web.ts'), http(at('WEB').port, '/api/healthz', at('WEB').host)),
  ];
}
