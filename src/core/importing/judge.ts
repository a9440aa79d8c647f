import { type Answer, type FieldKind, newField, readAnswer } from '../forms/fields';
import { type Address, parseAddress } from '../readers/address';
import { folded } from '../readers/condition';
import { isZone } from '../zones';
import type { Part } from './columns';
import { asMeant, type FileRow } from './rows';
import { type DateOrder, type FileState, readDate, readState } from './values';

/** How the rows of a file become readers. */
export type Plan = {
  /** What each column is, in their order. */
  parts: Part[];
  dates: DateOrder;
  /** The fields that `field ID` names. */
  fields: { id: string; key: string; label: string; kind: FieldKind; options: string[] }[];
};

/** A row that says who somebody is, or why it does not. */
export type Judged =
  | { ok: false; row: number; why: string; cells: string[] }
  | {
      ok: true;
      row: number;
      address: Address;
      firstName: string | null;
      state: FileState;
      agreedAt: Date | null;
      tags: string[];
      /** By the ids of fields. */
      answers: Record<string, Answer> | null;
      note: string;
      language: string | null;
      zone: string | null;
    };

const LONGEST_NAME = 80;
const MOST_TAGS = 50;
const LONGEST_TAG = 60;
const plain = (text: string) =>
  text
    .replace(/[\u0000-\u001f\u007f\u202a-\u202e\u2066-\u2069]+/g, ' ')
    .replace(/\s+/g, ' ')
    .trim();

const TOO_LONG = 'This address is longer than addresses can be (254 characters).';
function whyNoAddress(text: string): string {
  if (text === '') return 'There is no address in this row.';
  if (text.length > 254) return TOO_LONG;
  if (!text.includes('@')) return 'This is no address: it has no @.';
  if (/\s/.test(text)) return 'This address has a blank in it.';
  if (text.startsWith('"')) return 'Addresses with quotes are not taken: hardly any mailbox has one.';
  if ((text.match(/@/g) ?? []).length > 1) return 'There is more than one @ in this address.';
  return 'This does not look like an email address.';
}

/**
 * Reads one row after a plan. A row without a good address, or with a state that nobody knows, is told apart with its reason, so that it can be mended;
 * an answer or date that cannot be read is too, since it would be lost without a word.
 */
export function judgeRow(row: FileRow, plan: Plan): Judged {
  const bad = (why: string): Judged => ({ ok: false, row: row.row, why, cells: row.cells });
  if (row.broken) return bad('A quote is opened in this row and never closed.');
  if (row.cells.length > plan.parts.length && row.cells.slice(plan.parts.length).some((cell) => cell.trim() !== ''))
    return bad(`This row has ${row.cells.length} cells; the others have ${plan.parts.length}.`);
  const cell = (part: Part): string => {
    const at = plan.parts.indexOf(part);
    return at < 0 ? '' : asMeant((row.cells[at] ?? '').trim());
  };
  const typed = cell('address');
  const box = /^\s*"?([^"<>]*)"?\s*<\s*([^<>]+?)\s*>\s*$/.exec(typed);
  const address = parseAddress((box?.[2] ?? typed).replace(/^mailto:/i, ''));
  if (!address) return bad(whyNoAddress(box?.[2] ?? typed));
  const first = plain(cell('first name'));
  // Of a whole name the first word greets: "Anna Reef", and "Reef, Anna".
  const whole = plain(cell('name') || box?.[1] || '');
  const given = first || (whole.includes(',') ? whole.slice(whole.indexOf(',') + 1).trim() : whole).split(' ')[0] || '';
  const said = cell('state');
  const state = said === '' ? 'reading' : readState(said);
  if (!state)
    return bad(`Its state “${said.slice(0, 40)}” is not one that is known: reading, waiting, left, bounced or complained.`);
  const moment = cell('agreed');
  const agreedAt = moment === '' ? null : readDate(moment, plan.dates);
  if (moment !== '' && !agreedAt) return bad(`“${moment.slice(0, 40)}” is not a date that can be read.`);
  let answers: Record<string, Answer> | null = null;
  for (const field of plan.fields) {
    const text = cell(`field ${field.id}`);
    if (text === '') continue;
    const read = readField(field, text, plan.dates);
    if (read === undefined) return bad(`“${text.slice(0, 40)}” does not fit “${field.label}”, which is ${KIND[field.kind]}.`);
    answers ??= {};
    answers[field.id] = read;
  }
  const tags = [
    ...new Set(
      cell('tags')
        .split(/[,;|]/)
        .map((tag) => plain(tag).toLowerCase())
        .filter(Boolean),
    ),
  ];
  const odd = tags.find((tag) => tag.length > LONGEST_TAG);
  if (odd) return bad(`The tag “${odd.slice(0, 30)}…” is longer than ${LONGEST_TAG} characters.`);
  if (tags.length > MOST_TAGS) return bad(`This row has ${tags.length} tags; at most ${MOST_TAGS} are taken.`);
  const zone = cell('zone');
  return {
    ok: true,
    row: row.row,
    address,
    firstName: given.slice(0, LONGEST_NAME) || null,
    state,
    agreedAt,
    tags,
    answers,
    note: cell('note').slice(0, 4_000),
    language: /^[a-z]{2,3}([-_][a-z0-9]{2,8})*$/i.test(cell('language')) ? cell('language').replaceAll('_', '-') : null,
    zone: isZone(zone) ? zone : null,
  };
}

const KIND: Record<FieldKind, string> = {
  text: 'a text of at most 200 characters',
  'long text': 'a text of at most 4,000 characters',
  number: 'a number',
  phone: 'a telephone number',
  date: 'a date',
  'date and time': 'a date with a time',
  'yes/no': 'yes or no',
  choice: 'one of its choices',
  'several choices': 'some of its choices',
};
const YES = /^(yes|y|true|1|on|ja|oui|s[iíì]|sim|tak|x)$/i;
const NO = /^(no|n|false|0|off|nein|non|n[aã]o|nee|nej|nie)$/i;

/** An answer of a field's kind; undefined for what does not fit it. */
export function readField(field: Plan['fields'][number], text: string, dates: DateOrder): Answer | undefined {
  if (field.kind === 'yes/no') return YES.test(text) ? true : NO.test(text) ? false : undefined;
  let sent = text;
  if (field.kind === 'date' || field.kind === 'date and time') {
    const at = readDate(text, dates);
    if (!at) return undefined;
    sent = at.toISOString().slice(0, field.kind === 'date' ? 10 : 16);
  } else if (field.kind.includes('choice')) {
    // Choices are found whichever case they are written in.
    const known = (one: string) => field.options.find((option) => folded(option) === folded(one.trim())) ?? one;
    sent =
      field.kind === 'choice'
        ? known(text)
        : text
            .split(/[;|\n]/)
            .map(known)
            .join('\n');
  }
  const read = readAnswer({ ...newField(field.key, field.kind, field.label), options: field.options }, sent);
  return 'problem' in read || read.value === null ? undefined : read.value;
}
