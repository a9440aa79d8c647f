import { contrast } from '../newsletters/identity';
import { type Document, every, inlineOf, type Node } from './document';
import { chipsOfLine, lineForAll } from './line';

/** One thing that was looked at: `stop` keeps a letter from leaving, `look` only says so. `block` is the first block that it is about. */
export type Check = { tone: 'stop' | 'look' | 'fine'; title: string; words: string; block?: number };

const SUBJECT_ROOM = 60;
/** Where mail programs cut a letter off, in bytes of its HTML. */
export const MOST_HTML = 102_000;

/** Where something leads, as it was typed; those that lead nowhere are of interest. */
function leadsOf(node: Node): string[] {
  const links = inlineOf(node).flatMap((one) => (one.kind === 'text' && one.href ? [one.href] : []));
  if (node.kind === 'button' || node.kind === 'card') links.push(node.href);
  if (node.kind === 'picture' && node.href) links.push(node.href);
  if (node.kind === 'gallery') links.push(...node.pictures.flatMap((picture) => (picture.href ? [picture.href] : [])));
  return links;
}
/** Every address that a document leads to, each once. */
export const leadsIn = (document: Document): string[] => [...new Set([...every(document.nodes)].flatMap(leadsOf))];

const nowhere = (href: string): boolean => {
  if (/^mailto:.+@.+/i.test(href)) return false;
  if (!URL.canParse(href)) return true;
  const { hostname } = new URL(href);
  return !hostname.includes('.') && hostname !== 'localhost';
};
const some = (n: number, one: string, more: string) => (n === 1 ? `1 ${one}` : `${n} ${more}`);

/**
 * Looks at a letter as its writer should before it leaves. What filters dislike is said with the reason, and only where there is one: capitals alone, three
 * marks in a row, a subject that a phone cuts.
 */
export function checksOf({
  document,
  subject,
  previewLine,
}: {
  document: Document;
  subject: string;
  previewLine: string;
}): Check[] {
  const nodes: { node: Node; block: number }[] = document.nodes.flatMap((top, block) =>
    [...every([top])].map((node) => ({ node, block })),
  );
  const checks: Check[] = [];
  const say = (tone: Check['tone'], title: string, words: string, block?: number) =>
    void checks.push({ tone, title, words, ...(block === undefined ? {} : { block }) });
  const count = (of: (node: Node) => number): { n: number; block: number | undefined } => {
    let n = 0;
    let first: number | undefined;
    for (const { node, block } of nodes) {
      const here = of(node);
      n += here;
      if (here > 0) first ??= block;
    }
    return { n, block: first };
  };
  const said = lineForAll(subject);
  if (!said) say('stop', 'It has no subject', 'Give it a title, or a subject of its own.');
  if (!nodes.some(({ node }) => node.kind !== 'paragraph' || node.inline.length))
    say('stop', 'Nothing is written yet', 'A letter needs some words.');
  const picturesOf = (node: Node) => (node.kind === 'picture' ? [node] : node.kind === 'gallery' ? node.pictures : []);
  const pictures = count((node) => picturesOf(node).length);
  const blank = count((node) => picturesOf(node).filter((picture) => !picture.alt.trim()).length);
  if (blank.n)
    say(
      'look',
      `${some(blank.n, 'picture has', 'pictures have')} no description`,
      'People whose mail hides pictures, or who listen to it, will know nothing of them.',
      blank.block,
    );
  const chips = count((node) => inlineOf(node).filter((one) => one.kind === 'chip' && !one.fallback.trim()).length);
  const inLines = [...chipsOfLine(subject), ...chipsOfLine(previewLine)].filter((chip) => !chip.fallback.trim()).length;
  if (chips.n + inLines)
    say(
      'look',
      `${some(chips.n + inLines, 'chip has', 'chips have')} nothing for who gave no answer`,
      'They will read a gap there.',
      chips.block,
    );
  const dead = count((node) => leadsOf(node).filter(nowhere).length);
  if (dead.n)
    say(
      'stop',
      `${some(dead.n, 'link leads', 'links lead')} nowhere`,
      'Say where each of them leads, or take it out.',
      dead.block,
    );
  const empty = count((node) => inlineOf(node).filter((one) => one.kind === 'note' && one.words.length === 0).length);
  if (empty.n)
    say(
      'look',
      `${some(empty.n, 'footnote says', 'footnotes say')} nothing`,
      'Choose its number and write it, or take it out.',
      empty.block,
    );
  const own = count((node) => (node.kind === 'html' && node.html.trim() ? 1 : 0));
  if (own.n) say('look', 'HTML of your own', 'Mail programs differ in what they show of it. Send yourself a proof.', own.block);
  const faint = count((node) => {
    const look = 'look' in node ? node.look : undefined;
    return look?.colour && node.kind !== 'button' && node.kind !== 'divider' && node.kind !== 'call-out'
      ? Number(contrast(look.colour, look.ground ?? '#fffefb') < 4.5)
      : 0;
  });
  if (faint.n)
    say('look', `${some(faint.n, 'block is', 'blocks are')} hard to read`, 'Its colour is too near to its ground.', faint.block);
  const forms = count((node) => (node.kind === 'sign-up' ? 1 : 0));
  if (forms.n)
    say(
      'look',
      'The sign-up form is on the page alone',
      'Mail programs show no forms; in the letter there is nothing there.',
      forms.block,
    );
  if ([...said].length > SUBJECT_ROOM)
    say('look', 'The subject is long', `Phones show some ${SUBJECT_ROOM} signs of it; it has ${[...said].length}.`);
  if (/\p{Lu}/u.test(said) && said.length > 7 && said === said.toUpperCase())
    say('look', 'The subject is in capitals alone', 'Filters count that against a letter, and it is harder to read.');
  if (/[!?]{3}/.test(said)) say('look', 'The subject has marks in a row', 'Filters count that against a letter.');
  if (said && !lineForAll(previewLine))
    say('look', 'No preview line', 'Mail programs show the first words of the letter beside the subject then.');
  if (pictures.n > 0 && nodes.filter(({ node }) => inlineOf(node).length > 0).length < pictures.n)
    say('look', 'More pictures than words', 'Letters of pictures alone are taken for advertisements.', pictures.block);
  if (checks.length === 0) say('fine', 'Nothing to mend', 'Every picture is described and every link leads somewhere.');
  return checks;
}

/** What is known of a letter beside its words: how large it is made, what its addresses answer, and whether it may leave. */
export type Facts = {
  /** Of its HTML as it is sent, in bytes; by block, the largest first. */
  bytes: number;
  largest: { block: number; name: string; bytes: number }[];
  dead: { url: string; words: string }[];
  untold: string[];
  /** Fields without anything for those who gave none, and how many of whom it is for that are. */
  gaps: { field: string; people: number }[];
  /** Parts of it are for segments that are gone. */
  lostParts: number;
  /** Does its own text no longer say what the letter says? */
  textApart: boolean;
  /** Is a part of the writer's own HTML taken out before it leaves? */
  htmlLoses: boolean;
  sender: 'none' | 'unconfirmed' | 'fine';
  domain: 'none' | 'not right' | 'fine';
  /** What every letter must say: why it comes, and from where. */
  reasonLine: boolean;
  postalAddress: boolean;
  leavesByPage: boolean;
};

/** What stands in the way of a letter beside its words, and what the large providers want of whoever writes to many. */
export function factChecks(facts: Facts): Check[] {
  const checks: Check[] = [];
  const say = (tone: Check['tone'], title: string, words: string, block?: number) =>
    void checks.push({ tone, title, words, ...(block === undefined ? {} : { block }) });
  if (facts.sender === 'none') say('stop', 'It has no sender', 'Choose from whom it comes.');
  if (facts.sender === 'unconfirmed')
    say('stop', 'Its sender is not confirmed', 'Click the link that was mailed to them, or choose another.');
  if (facts.domain === 'none')
    say('stop', 'Its domain is not one of yours', 'Add it under Delivery, so that letters can be signed.');
  if (facts.domain === 'not right')
    say('stop', 'Its domain is not proven', 'Providers refuse what is not signed for the domain it comes from. See Delivery.');
  if (!facts.reasonLine) say('stop', 'Nothing says why it comes', 'Write the reason line under Settings.');
  if (!facts.postalAddress)
    say('stop', 'There is no postal address', 'Law in many countries wants one. Write it under Settings.');
  if (!facts.leavesByPage) say('stop', 'It has no way to leave', 'Its layout must end with Unsubscribe.');
  if (facts.lostParts)
    say('stop', `${some(facts.lostParts, 'part is', 'parts are')} for a segment that is gone`, 'Say for whom it is.');
  if (facts.bytes > MOST_HTML)
    say(
      'look',
      `It is ${Math.round(facts.bytes / 1_000)} KB, and cut off after ${MOST_HTML / 1_000}`,
      `Mail programs then hide the rest, Unsubscribe with it. Most of it: ${facts.largest
        .slice(0, 3)
        .map((one) => `${one.name}, ${Math.round(one.bytes / 1_000)} KB`)
        .join('; ')}.`,
      facts.largest[0]?.block,
    );
  for (const { url, words } of facts.dead.slice(0, 5)) say('look', `A link does not answer: ${shortened(url)}`, words);
  if (facts.untold.length)
    say(
      'look',
      `${some(facts.untold.length, 'link does', 'links do')} not answer programs`,
      `${shortened(facts.untold[0]!)}${facts.untold.length > 1 ? ' and others' : ''}. Press it once yourself.`,
    );
  for (const { field, people } of facts.gaps)
    if (people)
      say(
        'look',
        `${some(people, 'person reads', 'people read')} a gap`,
        `They gave no ${field.replace(/_/g, ' ')}, and nothing stands for it.`,
      );
  if (facts.htmlLoses)
    say('look', 'A part of your HTML is taken out', 'Scripts, forms, frames and style sheets do not leave. Look at the preview.');
  if (facts.textApart)
    say(
      'look',
      'Its text no longer follows',
      'The letter was changed since you wrote its text. Look at both, or have it follow again.',
    );
  return checks;
}

const shortened = (url: string): string => {
  const bare = url.replace(/^https?:\/\/(www\.)?/i, '');
  return bare.length > 48 ? `${bare.slice(0, 47)}…` : bare;
};
