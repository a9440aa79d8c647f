/*
 * Why a mail did not arrive, told from what a server said: by its enhanced status code (RFC 3463) where that says something, then by its words, then by its basic
 * code (RFC 5321). Whether it means anything for the mailbox is `core/sending/outcome`.
 */

/** Each reason with its name on a screen, what it means, and the one thing to do about it. */
export const REASONS = {
  dead: [
    'Address dead',
    'The mailbox or its domain does not exist.',
    'Nothing: an address that is proven dead gets no more letters. Many of one day speak of an old list that was brought.',
  ],
  full: [
    'Mailbox full',
    'There is no room in the mailbox.',
    'Nothing: letters are tried again for two days, and later letters find out whether it was emptied.',
  ],
  slow: [
    'Slow down',
    'The provider takes no more for now.',
    'Nothing: letters go slower there by themselves. If it lasts, send less at once while the domain is new.',
  ],
  greylist: [
    'Come again later',
    'The provider puts off whom it does not know yet.',
    'Nothing: letters come again by themselves and are taken then.',
  ],
  content: [
    'Blocked for its content',
    'The words, links or pictures of the letter looked like junk.',
    'Look through this letter’s links and words, and send yourself a proof at that provider.',
  ],
  reputation: [
    'Blocked for its sender’s name',
    'The domain or the address it came from stands badly there, or on a list that the provider asks.',
    'Send to those who read for a while, and ask the provider, or whoever keeps the list, to look again.',
  ],
  authentication: [
    'Not believed',
    'The provider could not prove that the mail is yours.',
    'Check the domain: one of its records is missing, or differs.',
  ],
  policy: [
    'Against its rules',
    'The provider, or the reader’s firm, does not take such mail.',
    'Read its words: they mostly say which rule it is.',
  ],
  loop: [
    'Went in circles',
    'The mail was handed back and forth until somebody gave up.',
    'Nothing on your side: the reader’s forwarding is set up wrongly.',
  ],
  unreachable: [
    'Could not be reached',
    'The reader’s mail server did not answer, for as long as mail is tried.',
    'Nothing: later letters find out whether it is back.',
  ],
  unknown: ['No reason given', 'The server said no, and not why.', 'Nothing, unless it says so of many.'],
} as const satisfies Record<string, readonly [name: string, meaning: string, todo: string]>;

export type Reason = keyof typeof REASONS;
export const REASON_NAMES = Object.keys(REASONS) as Reason[];

/** Enhanced codes that say the mailbox itself is no good. */
const DEAD = /^5\.(1\.[0-36]|1\.10|2\.1)$/;
const FULL = /^[45]\.2\.2$/;
const LOOP = /^[45]\.4\.(6|14)$/;
/** Signatures, permitted senders, reverse name and policy of a domain (RFC 7372 and its registry); a sender address that cannot be right; credentials. */
const UNPROVEN = /^[45]\.(7\.(2[0-9]|8|9|10|12|13)|1\.[78])$/;
/** A code that says nothing ("other undefined status"): then the words count. */
const EMPTY = /^[45]\.0\.0$/;
const WAY = /^[45]\.4\.\d+$/;
const CONTENT = /^[45]\.6\.\d+$/;

/** Words that speak of us, our address, our pace or the mail, never of the mailbox. */
const ABOUT_US =
  /\b(listed|block(?:ed|ing|list)?|black ?list|dnsbl|rbl|spam|spamming|relay(?:ing)?|sender (?:verif|address|domain|reject|denied|unknown)|callout|spf|dkim|dmarc|polic(?:y|ies)|administrative(?:ly)?|prohibit|prohibition|denied|reputation|too many|rate|throttl|grey ?list|virus|content|ip address|reverse|ptr|helo|ehlo|authenticat|tls|encrypt|not accept(?:ing|ed)? (?:mail )?from|banned|bulk)/i;
/** Words that say that the mailbox is not there, as servers have them in several languages. */
const NO_MAILBOX =
  /no such (?:user|mailbox|recipient|person|account|address|local)|(?:user|mailbox|recipient|account|addressee|address|alias|person)\b[^.]{0,40}\b(?:unknown|not found|(?:not|doesn['’]?t|didn['’]?t) exist|not exist|invalid|unavailable|disabled|inactive|deactivated|closed|not known|unrout)|(?:unknown|invalid|unrouteable|unroutable|bad|nonexistent|non-existent) (?:user|mailbox|recipient|account|address|local|destination)|not a (?:valid|known) (?:user|mailbox|recipient|address)|no mailbox (?:here|by that name)|does not exist here|(?:empfänger|postfach|benutzer|adresse)\b[^.]{0,30}\b(?:unbekannt|nicht vorhanden|existiert nicht)|unbekannter (?:empfänger|benutzer)|(?:adresse|destinataire|utilisateur)\b[^.]{0,30}\b(?:inconnue?|n['’]existe pas)|(?:usuario|buzón|destinatario|dirección|cuenta)\b[^.]{0,30}\b(?:no existe|desconocid[oa]|inexistente)|(?:utente|casella)\b[^.]{0,30}\b(?:sconosciut[oa]|inesistente)|(?:gebruiker|adres|mailbox)\b[^.]{0,30}\b(?:onbekend|bestaat niet)/i;
const MAILBOX_FULL =
  /\b(?:mailbox|quota|inbox|storage|user)\b[^.]{0,30}\b(?:full|exceed|over)|over ?quota|\bfull mailbox|quota (?:has been )?exceeded|out of storage|postfach (?:ist )?voll|boîte (?:aux lettres )?pleine|buzón lleno/i;
/** A server that has no room is no mailbox that has none. */
const SERVER_FULL = /system storage|disk (?:is )?full|insufficient (?:disk|system)/i;
/** Words of a server that minds how fast or how often we come. */
const SLOW =
  /too (?:many (?:connections|messages|mails|recipients|errors|concurrent|sessions|requests)|many|fast|much)|\brate\b|rate.?limit|throttl|slow down|\blimit(?:ed|s)?\b|busy|overload|concurren|try again later.{0,40}connection|resources|load too high/i;
const GREYLIST = /gr[ea]y-? ?-?list|please (?:try|come) (?:again|back) in \d+|first.?time sender|triplet/i;
const CIRCLES = /mail loop|routing loop|too many hops|hop ?count|loops? back|looping|too many received/i;
const REPUTE =
  /black ?list|block ?list|\bdnsbl\b|\brbl\b|reputation|\blisted (?:at|by|in|on|with)|blocked using|(?:ip|address|host|network|client|sender|domain)\b.{0,50}\b(?:is |are |has been |was )?(?:blocked|banned|blacklisted|denied|listed)|poor (?:ip|sender|domain)|sender score|complaints|banned|bad reputation|unsolicited (?:mail|messages?|email)\b[^.]{0,40}\bfrom your/i;
const AUTH =
  /\b(?:spf|dkim|dmarc|arc)\b|unauthenticated|authenticat|reverse (?:dns|name|lookup|hostname)|\bptr\b|\brdns\b|\bhelo\b|\behlo\b|sender (?:verif|address|id\b|domain (?:must|does|not))|callout|cannot find your (?:reverse )?hostname|starttls|must use tls|encryption (?:required|needed)|relay(?:ing)? (?:denied|not permitted|access denied|prohibited)|unable to relay|not accept(?:ing|ed)? (?:mail )?from/i;
const JUNK =
  /\bspam|\bjunk\b|content|virus|malware|phish|attachment|suspicious (?:link|url|message)|(?:url|link)s? (?:in|listed|blocked)|unsolicited|looks like|bulk (?:mail|email)|message (?:was )?(?:identified|classified|detected|scored)/i;
const RULE =
  /polic(?:y|ies)|administrative(?:ly)?|prohibit|denied|not (?:allowed|permitted|authori[sz]ed|wanted)|restricted|reject(?:ed)? by (?:user|recipient)/i;
const TOO_LARGE = /too (?:large|big)|size limit|(?:message|mail) size|exceeds?\b[^.]{0,30}\bsize/i;
const AWAY =
  /timed? ?out|connection (?:refused|lost|reset|timed|dropped)|no route|unreachable|host (?:unknown|not found|or domain name not found)|name service|name server|(?:delivery time|message|time) expired|could not be delivered (?:for|within)|not delivered within|no (?:answer|response) from|dns (?:error|failure|lookup)|retry (?:timeout|time)|giving up|unable to (?:route|connect)/i;

/** The enhanced code of a reply where it says something. */
const saying = (response: string): string | undefined => {
  const found = /(?:^|\s)([245]\.\d{1,3}\.\d{1,3})(?=[\s:;,)]|$)/.exec(response.replace(/^\d{3}[ -]?/, ' '))?.[1];
  return found && !EMPTY.test(found) ? found : undefined;
};

/** What the words say of us, the mail or the way; null where they say none of it. */
function byWords(text: string, temporary: boolean): Reason | null {
  if (CIRCLES.test(text)) return 'loop';
  if (GREYLIST.test(text)) return 'greylist';
  // Who is told to wait is told so first, whatever else is said of them.
  if (SERVER_FULL.test(text) || (temporary && SLOW.test(text))) return 'slow';
  if (TOO_LARGE.test(text)) return 'policy';
  if (REPUTE.test(text)) return 'reputation';
  if (AUTH.test(text)) return 'authentication';
  if (JUNK.test(text)) return 'content';
  if (SLOW.test(text)) return 'slow';
  if (RULE.test(text)) return 'policy';
  return null;
}

/** Addresses and links are no words: what a host or a mailbox is called says nothing. */
const wordsOf = (response: string) => response.replace(/<[^>]*>|https?:\S+|\S+@\S+/g, ' ');

/** Does a server mind how fast or how often we come? Not where it puts off whoever it does not know yet. */
export const mindsPace = (response: string): boolean => {
  const text = wordsOf(response);
  return SLOW.test(text) && !GREYLIST.test(text);
};

/** What a refusal is against the mailbox: the proof that it is gone, or a sign of this weight. */
export type Against = 'proof' | 0 | 1 | 2;

/**
 * Why a server refused: `code` is the basic code (4yz, 5yz), `response` its plain words with the enhanced code in them. A dead address is proven by a code that names
 * the mailbox, or by words that do where no code says anything, as long as no word speaks of us. A code and words that contradict each other are a sign; no word
 * and no code at all a greater one.
 */
export function reasonOf(code: number, response: string): { reason: Reason; against: Against } {
  const temporary = code < 500;
  const status = saying(response);
  const text = wordsOf(response);
  const found = (reason: Reason, against: Against = 0) => ({ reason, against });
  if (status ? FULL.test(status) : MAILBOX_FULL.test(text) && !SERVER_FULL.test(text)) return found('full');
  if (status && LOOP.test(status)) return found('loop');
  const words = byWords(text, temporary);
  const aboutUs = ABOUT_US.test(response);
  const nobody = !temporary && NO_MAILBOX.test(text);
  if (!status) {
    if (nobody && !aboutUs) return found('dead', 'proof');
    if (words) return found(words);
    if (AWAY.test(text)) return found('unreachable');
    if (aboutUs) return found('policy');
    return code === 421 ? found('slow') : found('unknown', 2);
  }
  if (DEAD.test(status)) {
    if (!aboutUs) return found('dead', 'proof');
    return found(words === null || words === 'policy' ? 'dead' : words, 1);
  }
  if (UNPROVEN.test(status) && !(temporary && words === 'slow')) return found('authentication');
  if (CONTENT.test(status)) return found(words ?? 'content');
  // The code says another thing, and the words that there is no such mailbox.
  if (nobody && (words === null || words === 'policy')) return found('dead', 1);
  if (status === '5.4.1' && /recipient address rejected/i.test(text)) return found('dead', 1);
  if (words) return found(words);
  if (WAY.test(status) || AWAY.test(text)) return found('unreachable');
  if (/\.(7\.\d+|3\.4|2\.3)$/.test(status)) return found('policy');
  return found(temporary && /\.(3\.\d+|2\.1)$/.test(status) ? 'slow' : 'unknown');
}

/** Why a way took nothing, or a copy was given up: what its server said, where it said anything ("mx.a.example said: 421 …"); else it could not be reached. */
export function reasonOfWay(words: string | null): Reason {
  const said = /^(?:\S+ said: )?(([45]\d\d)\b.*)/s.exec(words ?? '');
  return said ? reasonOf(Number(said[2]), said[1]!).reason : 'unreachable';
}
