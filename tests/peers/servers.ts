import { execFileSync, spawn, spawnSync } from 'node:child_process';
import { chownSync, existsSync, mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { connect } from 'node:net';
import { join } from 'node:path';

/** Where Debian's packages of mail servers are unpacked, side by side, without being installed. */
const ROOT = '/var/tmp/inkset-peers';
const PACKAGES = [
  'postfix',
  'exim4-daemon-light',
  'courier-mta',
  'courier-base',
  'courier-authlib',
  'libcourier-unicode4',
  'libidn12',
  'libltdl7',
];

// These run as users of their own, who have to read what is written for them here.
process.umask(0o022);

/** What a server is started with, and nothing else. */
const withLibraries = (folder: string): NodeJS.ProcessEnv => ({ NODE_ENV: 'test', LD_LIBRARY_PATH: folder });

/** Where the connection pooler is unpacked, and the library that only it needs. */
export const POOLER = ['pgbouncer', 'libc-ares2'].map((name) => join(ROOT, name));

/** Unpacks the mail servers, or other packages, if they are not there yet. Returns why that cannot be done, or ''. */
export function unpack(packages = PACKAGES): string {
  if (process.getuid?.() !== 0) return 'servers of other kinds are run as root here';
  if (packages.every((name) => existsSync(join(ROOT, name)))) return '';
  mkdirSync(join(ROOT, 'debs'), { recursive: true });
  for (const name of packages) {
    const got = spawnSync('apt-get', ['download', name], { cwd: join(ROOT, 'debs'), encoding: 'utf8' });
    const file = readdirSync(join(ROOT, 'debs')).find((one) => one.startsWith(`${name}_`));
    if (!file) return `Debian's package ${name} could not be had: ${got.stderr.trim().split('\n')[0]}`;
    execFileSync('dpkg', ['-x', join(ROOT, 'debs', file), join(ROOT, name)]);
  }
  return '';
}

export type Stored = { to: string; source: string };
export type MailServer = { address: string; domain: string; stored(): Stored[]; stop(): void };

function systemUser(name: string, group: string): { uid: number; gid: number } {
  spawnSync('groupadd', ['-r', group]);
  spawnSync('useradd', ['-r', '-s', '/usr/sbin/nologin', '-d', '/nonexistent', name]);
  const id = (flag: string) => Number(execFileSync('id', [flag, name], { encoding: 'utf8' }));
  return { uid: id('-u'), gid: id('-g') };
}

async function listens(address: string, port: number): Promise<void> {
  for (let tries = 0; tries < 200; tries += 1) {
    const up = await new Promise<boolean>((resolve) => {
      const socket = connect(port, address, () => {
        socket.end('QUIT\r\n');
        resolve(true);
      });
      socket.on('error', () => resolve(false));
    });
    if (up) return;
    await new Promise((resolve) => setTimeout(resolve, 50));
  }
  throw new Error(`Nothing listens at ${address}:${port}.`);
}

/** The mails of an mbox, with the recipient of each. */
function mbox(file: string, recipient: RegExp): Stored[] {
  if (!existsSync(file)) return [];
  return readFileSync(file, 'latin1')
    .split(/^(?=From \S+ )/m)
    .filter(Boolean)
    .map((text) => {
      const source = text.slice(text.indexOf('\n') + 1).replace(/\n$/, '');
      return { to: recipient.exec(source)?.[1] ?? '', source };
    });
}

/** Postfix as Debian packs it, taking two connections of one client at a time. */
export async function startPostfix(port: number): Promise<MailServer> {
  const home = join(ROOT, 'run', 'postfix');
  const unpacked = join(ROOT, 'postfix');
  const libraries = join(unpacked, 'usr/lib/postfix');
  rmSync(home, { recursive: true, force: true });
  for (const dir of ['conf', 'data', 'mail', 'spool']) mkdirSync(join(home, dir), { recursive: true });
  const user = systemUser('postfix', 'postdrop');
  const queues = [
    'active',
    'bounce',
    'corrupt',
    'defer',
    'deferred',
    'flush',
    'hold',
    'incoming',
    'private',
    'public',
    'maildrop',
    'saved',
    'trace',
  ];
  for (const queue of queues) {
    mkdirSync(join(home, 'spool', queue));
    chownSync(join(home, 'spool', queue), user.uid, user.gid);
  }
  mkdirSync(join(home, 'spool/pid'));
  for (const dir of ['data', 'mail']) chownSync(join(home, dir), user.uid, user.gid);
  const address = '127.0.12.1';
  const services = [
    'pickup unix n - n 60 1 pickup',
    'qmgr unix n - n 300 1 qmgr',
    'virtual unix - n n - - virtual',
    'postlog unix-dgram n - n - 1 postlogd',
  ];
  for (const name of ['cleanup', 'flush']) services.push(`${name} unix n - n - 0 ${name}`);
  for (const name of ['bounce', 'verify', 'error']) services.push(`${name} unix - - n - 0 ${name}`);
  for (const name of ['anvil', 'scache', 'proxymap']) services.push(`${name} unix - - n - 1 ${name}`);
  services.push(
    'rewrite unix - - n - - trivial-rewrite',
    'defer unix - - n - 0 bounce',
    'trace unix - - n - 0 bounce',
    'retry unix - - n - - error',
  );
  writeFileSync(join(home, 'conf/master.cf'), `${address}:${port} inet n - n - - smtpd\n${services.join('\n')}\n`);
  writeFileSync(
    join(home, 'conf/main.cf'),
    `compatibility_level = 3.6
queue_directory = ${home}/spool
command_directory = ${unpacked}/usr/sbin
daemon_directory = ${libraries}/sbin
shlib_directory = ${libraries}
meta_directory = ${home}/conf
data_directory = ${home}/data
mail_owner = postfix
setgid_group = postdrop
myhostname = mx.postfix.example
mydestination =
inet_interfaces = 127.0.0.1
inet_protocols = ipv4
virtual_mailbox_domains = postfix.example
virtual_mailbox_maps = static:all
virtual_mailbox_base = ${home}/mail
virtual_uid_maps = static:${user.uid}
virtual_gid_maps = static:${user.gid}
virtual_minimum_uid = 1
virtual_mailbox_limit = 0
virtual_delivery_slot_cost = 1
virtual_destination_recipient_limit = 1
smtpd_client_connection_count_limit = 2
smtpd_client_event_limit_exceptions =
smtpd_peername_lookup = no
maillog_file = ${home}/postfix.log
maillog_file_prefixes = ${home}
alias_maps =
import_environment = MAIL_CONFIG MAIL_DEBUG LD_LIBRARY_PATH=${libraries}
`,
  );
  const child = spawn(join(libraries, 'sbin/master'), ['-c', join(home, 'conf'), '-d'], {
    env: withLibraries(libraries),
    stdio: 'ignore',
    // It ends its children as a process group, so it has to lead one.
    detached: true,
  });
  await listens(address, port);
  return {
    address,
    domain: 'postfix.example',
    stored: () => mbox(join(home, 'mail/all'), /^Delivered-To: (\S+)/m),
    stop: () => void child.kill(),
  };
}

/** Exim as Debian packs it, taking two connections of one host and twenty mails a connection; it knows nobody whose name begins with "gone". */
export async function startExim(port: number): Promise<MailServer> {
  const home = join(ROOT, 'run', 'exim');
  const program = join(ROOT, 'exim4-daemon-light/usr/sbin/exim4');
  const libraries = join(ROOT, 'libidn12/usr/lib/x86_64-linux-gnu');
  rmSync(home, { recursive: true, force: true });
  for (const dir of ['spool', 'log', 'mail']) mkdirSync(join(home, dir), { recursive: true });
  execFileSync('chown', ['-R', 'mail:mail', home]);
  systemUser('Debian-exim', 'Debian-exim');
  const address = '127.0.11.1';
  writeFileSync(
    join(home, 'conf'),
    `primary_hostname = mx.exim.example
exim_path = ${program}
local_interfaces = ${address}
daemon_smtp_ports = ${port}
spool_directory = ${home}/spool
log_file_path = ${home}/log/%slog
pid_file_path = ${home}/pid
exim_user = mail
exim_group = mail
smtp_accept_max_per_host = 2
smtp_accept_max_per_connection = 20
tls_advertise_hosts =
host_lookup =
acl_smtp_rcpt = rcpt
keep_environment = LD_LIBRARY_PATH
queue_only = true
begin acl
rcpt:
  deny message = Unrouteable address
       condition = \${if match{$local_part}{^gone}}
  accept
begin routers
all:
  driver = accept
  transport = store
begin transports
store:
  driver = appendfile
  file = ${home}/mail/all
  envelope_to_add
  user = mail
  group = mail
`,
  );
  const child = spawn(program, ['-C', join(home, 'conf'), '-bdf'], { env: withLibraries(libraries), stdio: 'ignore' });
  await listens(address, port);
  return {
    address,
    domain: 'exim.example',
    stored: () => {
      // The daemon, not set up to become root again, only takes mail in; the queue is run by us.
      spawnSync(program, ['-C', join(home, 'conf'), '-qff'], { env: withLibraries(libraries) });
      return mbox(join(home, 'mail/all'), /^Envelope-to: (\S+)/m);
    },
    stop: () => void child.kill(),
  };
}

/** Courier as Debian packs it, taking four connections of one address. Its paths are built in, so it runs with file systems of its own. */
export async function startCourier(port: number): Promise<MailServer> {
  const home = join(ROOT, 'run', 'courier');
  rmSync(home, { recursive: true, force: true });
  for (const dir of ['etc', 'work', 'var/courier/msgs', 'var/courier/msgq', 'var/courier/tmp'])
    mkdirSync(join(home, dir), { recursive: true });
  const address = '127.0.13.1';
  const unpacked = (path: string) => PACKAGES.map((name) => join(ROOT, name, path)).filter((dir) => existsSync(dir));
  const settings = join(home, 'etc/courier');
  execFileSync('cp', ['-a', join(ROOT, 'courier-mta/etc/courier'), settings]);
  for (const [file, text] of Object.entries({
    esmtpacceptmailfor: 'courier.example',
    me: 'mx.courier.example',
    locals: 'mx.courier.example',
  }))
    writeFileSync(join(settings, file), `${text}\n`);
  systemUser('courier', 'courier');
  execFileSync('chown', ['-R', 'courier:courier', join(home, 'etc'), join(home, 'var')]);
  const over = (layers: string[], at: string) => `mount -t overlay overlay -o lowerdir=${[...layers, at].join(':')} ${at}`;
  const script = [
    'set -e',
    over(unpacked('usr/lib'), '/usr/lib'),
    over([join(home, 'etc')], '/etc'),
    `mount -t overlay overlay -o lowerdir=/var/lib,upperdir=${home}/var,workdir=${home}/work /var/lib`,
    [
      `exec ${join(ROOT, 'courier-base/usr/sbin/couriertcpd')}`,
      `-maxprocs=40 -maxperc=4 -maxperip=4 -noidentlookup -nodnslookup -user=courier -group=courier`,
      `-address=${address} ${port} /usr/lib/courier/courier/modules/esmtp/courieresmtpd`,
    ].join(' '),
  ].join('\n');
  const child = spawn('unshare', ['-m', 'sh', '-c', script], {
    env: {
      ...withLibraries('/usr/lib/courier-authlib'),
      PATH: '/usr/sbin:/usr/bin:/sbin:/bin',
      SHELL: '/bin/sh',
      BOFHBADMIME: 'accept',
    },
    stdio: 'ignore',
  });
  await listens(address, port);
  const queue = join(home, 'var/courier/tmp');
  return {
    address,
    domain: 'courier.example',
    // What it took stays in its queue, in pairs: C… says to whom (a line that begins with r), D… is the mail.
    stored: () =>
      readdirSync(queue).flatMap((dir) =>
        readdirSync(join(queue, dir))
          .filter((name) => name.startsWith('D'))
          .map((name) => ({
            to: /^r(.*)$/m.exec(readFileSync(join(queue, dir, name.replace('D', 'C')), 'utf8'))?.[1] ?? '',
            source: readFileSync(join(queue, dir, name), 'latin1'),
          })),
      ),
    stop: () => void child.kill(),
  };
}
