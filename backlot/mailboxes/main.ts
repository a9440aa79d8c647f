/*
 * The mailboxes: one SMTP server for the four invented providers (and any other domain whose MX points here), and the pages on which
 * readers' inboxes are looked at. It checks every letter's SPF, DKIM and DMARC with real look-ups at the Backlot's DNS. How an address answers
 * is said in manners.ts. What is mailed back goes to the letter's return path, found through MX like any mail; each provider reports what a day brought
 * in a domain's name to the address that its policy names.
 */
import { simpleParser } from 'mailparser';
import nodemailer from 'nodemailer';
import { generate } from 'selfsigned';
import { SMTPServer } from 'smtp-server';
import { type Hands, LivingPublic } from '../public/living';
import { asJson, notFound, serve } from '../shell/http';
import { knowLocalhost } from '../shell/localhost';
import { esc, worldPage } from '../shell/page';
import { portOf, worldNow } from '../shell/world';
import { reportDays } from './days';
import { mannerOf, saidToLetter, saidToRecipient } from './manners';
import { awayNote, goneNotice, junkReport, lateNotice, personAnswers, verdictReply } from './notices';
import { OutgoingMail } from './outgoing';
import * as store from './store';
import { resolver, verify } from './verify';

knowLocalhost();
const PROVIDERS = ['heronmail.example', 'postbird.example', 'kestrel.example', 'fjordbox.example'];
const hostOf = (address: string) => `mx.${address.slice(address.lastIndexOf('@') + 1)}`;
const firstTry = new Map<string, number>();
let doors: 'open' | 'closed' = 'open';

const no = (code: number, text: string) => Object.assign(new Error(text), { responseCode: code });

// Letters are checked one after another behind the counter, so that a large delivery is not held up by look-ups.
const toCheck: (() => Promise<void>)[] = [];
let checking = false;
async function checkAll(): Promise<void> {
  if (checking) return;
  checking = true;
  for (let next = toCheck.shift(); next; next = toCheck.shift()) await next().catch(() => {});
  checking = false;
}

const partsOf = (letter: store.Stored) => ({ returnPath: letter.mailFrom, recipient: letter.to, host: hostOf(letter.to) });

/** What providers send goes to whoever a letter came from, found through MX like any mail, and is tried again while nobody takes it. */
const outgoing = new OutgoingMail(worldNow, async ({ from, to, raw }) => {
  await resolver.resolveMx(to.slice(to.lastIndexOf('@') + 1));
  // 127.0.0.1 is where this world's mail hosts live; the port stands for their port 25.
  const transport = nodemailer.createTransport({
    host: '127.0.0.1',
    port: portOf('BACKLOT_MAILROOM_PORT'),
    secure: false,
    ignoreTLS: true,
  });
  await transport.sendMail({ envelope: { from, to }, raw });
});
setInterval(() => void outgoing.work(), 1_000);

async function sendBack(to: string, raw: string, from = ''): Promise<void> {
  if (to) await outgoing.add({ from, to, raw });
}

/** Reports a letter as junk, to the address for complaints at the domain that it came back to. */
async function report(letter: store.Stored): Promise<void> {
  const domain = letter.mailFrom.slice(letter.mailFrom.lastIndexOf('@') + 1);
  const original = store.source(letter.id).toString('latin1');
  if (domain)
    await sendBack(
      `abuse@${domain}`,
      junkReport({ ...partsOf(letter), date: await worldNow(), original }),
      `reports@${hostOf(letter.to)}`,
    );
}

const publicHands: Hands = {
  fetch: async (url, { agent, network }) => {
    await fetch(url, { headers: { 'user-agent': agent, 'x-forwarded-for': network }, redirect: 'manual' });
  },
  leave: async (url) => {
    await fetch(url, { method: 'POST', body: new URLSearchParams({ 'List-Unsubscribe': 'One-Click' }) });
  },
  complain: async (id) => {
    const letter = store.get(id);
    if (letter) await report(letter);
  },
  answer: async (id) => {
    const letter = store.get(id);
    if (!letter) return;
    const of = { ...partsOf(letter), date: await worldNow(), original: store.source(id).toString('latin1') };
    await sendBack(letter.mailFrom, personAnswers(of), letter.to);
  },
};
const living = new LivingPublic(worldNow, publicHands);
setInterval(() => void living.work(), 500);

const certificate = await generate([{ name: 'commonName', value: 'mx.backlot.example' }], { keySize: 2048 });
const smtp = new SMTPServer({
  name: 'mx.backlot.example',
  key: certificate.private,
  cert: certificate.cert,
  authOptional: true,
  disabledCommands: ['AUTH'],
  disableReverseLookup: true,
  logger: false,
  size: 10_000_000,
  onConnect(_session, callback) {
    callback(doors === 'open' ? null : no(421, '4.3.2 We are closed just now'));
  },
  onRcptTo({ address }, _session, callback) {
    const manner = mannerOf(address);
    if (manner !== 'slow' && manner !== 'grey') {
      const said = saidToRecipient(manner, 0);
      return callback(said && no(...said));
    }
    worldNow().then((now) => {
      const first = firstTry.get(address) ?? now.getTime();
      firstTry.set(address, first);
      const said = saidToRecipient(manner, now.getTime() - first);
      callback(said && no(...said));
    }, callback);
  },
  onData(stream, session, callback) {
    const chunks: Buffer[] = [];
    stream.on('data', (chunk: Buffer) => chunks.push(chunk));
    stream.on('end', () => {
      const source = Buffer.concat(chunks);
      const recipients = session.envelope.rcptTo.map((r) => r.address);
      const refused = recipients.map((to) => saidToLetter(mannerOf(to))).find((said) => said !== null);
      if (refused) return callback(no(...refused));
      worldNow()
        .then(async (now) => {
          const mailFrom = session.envelope.mailFrom ? session.envelope.mailFrom.address : '';
          const head = await simpleParser(source.subarray(0, Math.max(0, source.indexOf('\r\n\r\n'))));
          const leave = /<(https?:[^>]+)>/.exec(
            String(
              (head.headers.get('list') as { unsubscribe?: { url?: string } })?.unsubscribe?.url
                ? `<${(head.headers.get('list') as { unsubscribe: { url: string } }).unsubscribe.url}>`
                : '',
            ),
          );
          for (const to of recipients) {
            const stored = store.add(
              {
                to,
                mailFrom,
                from: head.from?.text ?? '',
                subject: head.subject ?? '',
                at: now.toISOString(),
                bytes: source.length,
                encrypted: session.secure,
                leaveUrl: leave?.[1] ?? null,
                verdicts: null,
              },
              source,
            );
            toCheck.push(async () => {
              const { verdicts, trace } = await verify(source, {
                ip: session.remoteAddress,
                helo: session.hostNameAppearsAs || 'unknown',
                mailFrom,
                host: hostOf(to),
                encrypted: session.secure,
                at: now,
              });
              store.save({ ...stored, verdicts });
              const of = { ...partsOf(stored), date: await worldNow(), original: source.toString('latin1') };
              const manner = mannerOf(to);
              if (manner === 'gone') await sendBack(mailFrom, goneNotice(of));
              if (manner === 'late') await sendBack(mailFrom, lateNotice(of));
              if (manner === 'away') await sendBack(mailFrom, awayNote(of));
              if (manner === 'answers') await sendBack(mailFrom, personAnswers(of), to);
              if (manner === 'complains') await report(stored);
              if (manner === 'takes' && living.awake) {
                const { html } = await simpleParser(source, { skipTextToHtml: true });
                await living.came({
                  id: stored.id,
                  to,
                  from: stored.from,
                  subject: stored.subject,
                  html: html || '',
                  leaveUrl: stored.leaveUrl,
                });
              }
              if (to.startsWith('verdicts@'))
                await sendBack(head.replyTo?.value[0]?.address ?? mailFrom, verdictReply({ ...of, trace }));
            });
          }
          callback();
          void checkAll();
        })
        .catch((error) => callback(no(451, `4.3.0 ${error.message}`)));
    });
  },
});
smtp.on('error', () => {});
smtp.listen(portOf('BACKLOT_SMTP_PORT'), '127.0.0.1');

const time = (iso: string) => new Date(iso).toUTCString().replace(' GMT', '');
const mark = (verdict: store.Verdict | undefined) =>
  verdict
    ? `<span class="${verdict.result === 'pass' ? 'pass' : 'fail'}">${esc(verdict.result)}</span>`
    : '<span>being checked</span>';

function inboxPage(to: string | undefined): string {
  const letters = store.list(to);
  const rows = letters
    .slice(0, 200)
    .map(
      (m) =>
        `<tr><td>${esc(time(m.at))}</td><td><a href="/inbox/${encodeURIComponent(m.to)}">${esc(m.to)}</a></td><td>${esc(m.from)}</td><td><a href="/letter/${m.id}">${esc(m.subject || '(no subject)')}</a></td><td>${mark(m.verdicts?.spf)} ${mark(m.verdicts?.dkim)} ${mark(m.verdicts?.dmarc)}</td></tr>`,
    )
    .join('');
  return worldPage(
    'The mailboxes',
    to ?? 'All inboxes',
    `<h1>${esc(to ?? 'All inboxes')}</h1>${
      to
        ? '<p><a href="/">All inboxes</a></p>'
        : `<p>Mailboxes at ${PROVIDERS.join(', ')}. Addresses that begin with nobody-, gone-, full-, slow-, grey-, refuse-, junk-, listed-, late-, away-, answers- or complains- do accordingly.</p><form action="/"><label>Open the inbox of <input name="to" size="36" placeholder="someone@heronmail.example"></label> <button>Open</button></form>
<p>The public is <b>${living.awake ? 'awake' : 'asleep'}</b>${living.awake ? `: ${living.waiting} things are still to be done` : ''}. <form method="post" action="/public"><button name="awake" value="${living.awake ? 'no' : 'yes'}">${living.awake ? 'Let it sleep' : 'Wake it'}</button>${PROVIDERS.map((name) => ` <label>${name} puts into junk, in a hundred (${Math.round(100 * living.junkNow(name))} now, by what its readers say) <input name="junk ${name}" size="3" value="${Math.round(100 * living.junkOf(name))}"></label>`).join('')}</form> <a href="/public">What it really did</a></p>
<p>The doors are <b>${doors}</b>. <form method="post" action="/doors"><button name="doors" value="${doors === 'open' ? 'closed' : 'open'}">${doors === 'open' ? 'Close them' : 'Open them'}</button></form></p>`
    }
<p>${letters.length} letters</p><table><tr><th>Came</th><th>To</th><th>From</th><th>Subject</th><th>SPF DKIM DMARC</th></tr>${rows}</table>`,
  );
}

async function letterPage(m: store.Stored): Promise<string> {
  const parsed = await simpleParser(store.source(m.id), { skipTextToHtml: true });
  const verdict = (name: string, v: store.Verdict | undefined) =>
    `<tr><th>${name}</th><td>${mark(v)}</td><td class="mono">${esc(v?.detail ?? '')}</td></tr>`;
  return worldPage(
    'The mailboxes',
    m.subject,
    `<p><a href="/inbox/${encodeURIComponent(m.to)}">Inbox of ${esc(m.to)}</a></p><h1>${esc(m.subject)}</h1><p>From ${esc(m.from)}, to ${esc(m.to)}, ${esc(time(m.at))}, ${m.bytes.toLocaleString('en-GB')} bytes, ${m.encrypted ? 'encrypted on the way' : 'not encrypted on the way'}</p>
<table>${verdict('SPF', m.verdicts?.spf)}${verdict('DKIM', m.verdicts?.dkim)}${verdict('DMARC', m.verdicts?.dmarc)}</table>
<form method="post" action="/letter/${m.id}/junk"><p><button>Report as junk</button> (what its provider tells the sender: RFC 5965)</p></form>
${m.leaveUrl ? `<form method="post" action="/letter/${m.id}/leave"><p><button>Unsubscribe</button> (what a mail program shows beside the sender: one click, RFC 8058)</p></form>` : ''}
<h2>The letter</h2>${parsed.html ? `<iframe title="The letter" sandbox="allow-popups allow-popups-to-escape-sandbox" src="/letter/${m.id}/html"></iframe>` : ''}
<h2>Its text part</h2><pre>${esc(parsed.text ?? '')}</pre><h2>Its source</h2><p><a href="/letter/${m.id}/source">Raw source</a></p>`,
  );
}

serve('mailboxes', portOf('BACKLOT_INBOX_PORT'), async (ask) => {
  const [, root, id = '', act] = ask.path.split('/');
  if (ask.path === '/')
    return ask.query.get('to')
      ? { seeOther: `/inbox/${encodeURIComponent(ask.query.get('to')!)}` }
      : { body: inboxPage(undefined) };
  if (root === 'doors' && ask.method === 'POST') {
    doors = ask.fields.get('doors') === 'closed' ? 'closed' : 'open';
    return { seeOther: '/' };
  }
  if (root === 'public' && ask.method === 'POST') {
    living.wake(ask.fields.get('awake') === 'yes');
    for (const name of PROVIDERS) living.junkAt(name, Number(ask.fields.get(`junk ${name}`) ?? 0) / 100);
    return { seeOther: '/' };
  }
  if (root === 'public') return asJson(living.truth);
  if (root === 'inbox') return { body: inboxPage(id) };
  if (root === 'api') return asJson(store.list(ask.query.get('to') ?? undefined).slice(0, Number(ask.query.get('most') ?? 100)));
  const letter = root === 'letter' ? store.get(id) : undefined;
  if (!letter) return notFound;
  if (!act) return { body: await letterPage(letter) };
  if (act === 'source') return { type: 'text/plain; charset=utf-8', body: store.source(id) };
  const parsed = await simpleParser(store.source(id), { skipTextToHtml: true });
  if (act === 'html') return { body: `<base target="_blank">${parsed.html || ''}` };
  if (act === 'text') return { type: 'text/plain; charset=utf-8', body: parsed.text ?? '' };
  if (act === 'junk' && ask.method === 'POST') {
    await report(letter);
    return { body: worldPage('The mailboxes', 'Junk', `<h1>Reported</h1><p><a href="/letter/${id}">Back to the letter</a></p>`) };
  }
  if (act === 'leave' && ask.method === 'POST' && letter.leaveUrl) {
    const answer = await fetch(letter.leaveUrl, {
      method: 'POST',
      body: new URLSearchParams({ 'List-Unsubscribe': 'One-Click' }),
    });
    return {
      body: worldPage(
        'The mailboxes',
        'Leave',
        `<h1>${answer.ok ? 'Done' : 'It did not work'}</h1><p>The list answered ${answer.status}.</p><p><a href="/letter/${id}">Back to the letter</a></p>`,
      ),
    };
  }
  return notFound;
});

reportDays(sendBack);
