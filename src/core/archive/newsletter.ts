import { createHmac } from 'node:crypto';
import Joi from 'joi';
import { ALERT_TIMES, LANGUAGES, MOST_SOCIAL_LINKS, type SocialLink } from '../newsletters/identity';
import { CALL_BACK } from '../sending/departure';
import { isZone } from '../zones';
import { SHEETS } from './sheets';

/** What the first file of a whole newsletter says: what this is, who wrote it, and the newsletter itself. */
export type WholeNewsletter = {
  format: typeof FORMAT;
  version: number;
  made_at: string;
  made_by: string;
  /** Where its pictures were to be fetched, as addresses in posts and forms begin. */
  pictures_at: string;
  /** How many lines each sheet has. */
  lines: Record<string, number>;
  newsletter: {
    slug: string;
    name: string;
    description: string;
    postal_address: string;
    reason_line: string;
    time_zone: string;
    language: string;
    colour: string;
    accent: string;
    site: string;
    social_links: SocialLink[];
    count_opens: boolean;
    count_clicks: boolean;
    call_back_seconds: number;
    encrypted_only: boolean;
    alert_joins: 'off' | 'at once' | 'daily';
    alert_leaves: 'off' | 'at once' | 'daily';
    weekly_summary: boolean;
    tell_unusual: boolean;
    reader_goal: number | null;
    logo_id: string | null;
    default_sender_id: string | null;
    /** What addresses of erased readers are hashed with, by which nobody of them is brought back. */
    erased_key: string | null;
    created_at: string;
  };
};

export const FORMAT = 'a whole newsletter';
export const VERSION = 1;
/** The file of a zip that says what it is, and its first. */
export const FIRST_FILE = 'newsletter.json';
/** An upload may be so large. */
export const MOST_ZIP_BYTES = 4_000_000_000;

const said = (most: number) => Joi.string().allow('').max(most).pattern(/\0/, { invert: true }).required();
const colour = Joi.string()
  .pattern(/^#[0-9a-f]{6}$/i)
  .required();
const uuid = Joi.string().uuid().allow(null).required();
const when = Joi.string()
  .valid(...ALERT_TIMES)
  .required();

export const wholeSchema = Joi.object<WholeNewsletter>({
  format: Joi.valid(FORMAT).required(),
  version: Joi.number().integer().min(1).required(),
  made_at: Joi.string().isoDate().required(),
  made_by: said(200),
  pictures_at: said(300),
  lines: Joi.object(Object.fromEntries(SHEETS.map((sheet) => [sheet.name, Joi.number().integer().min(0).required()])))
    .unknown()
    .required(),
  newsletter: Joi.object({
    slug: said(200),
    name: said(80).min(1),
    description: said(200),
    postal_address: said(300),
    reason_line: said(300),
    time_zone: Joi.string()
      .required()
      .custom((value, helpers) => (isZone(value) ? value : helpers.error('any.invalid'))),
    language: Joi.string()
      .valid(...LANGUAGES.map(([tag]) => tag))
      .required(),
    colour,
    accent: colour,
    site: said(300),
    social_links: Joi.array()
      .items(
        Joi.object({
          label: said(40),
          url: Joi.string()
            .uri({ scheme: ['http', 'https'] })
            .max(300)
            .required(),
        }),
      )
      .max(MOST_SOCIAL_LINKS)
      .required(),
    count_opens: Joi.boolean().required(),
    count_clicks: Joi.boolean().required(),
    call_back_seconds: Joi.number().integer().min(0).max(CALL_BACK.most).default(CALL_BACK.usual),
    encrypted_only: Joi.boolean().required(),
    alert_joins: when,
    alert_leaves: when,
    weekly_summary: Joi.boolean().required(),
    tell_unusual: Joi.boolean().required(),
    reader_goal: Joi.number().integer().min(1).max(100_000_000).allow(null).required(),
    logo_id: uuid,
    default_sender_id: uuid,
    erased_key: Joi.string()
      .pattern(/^[0-9a-f]{64}$/)
      .allow(null)
      .required(),
    created_at: Joi.string().isoDate().required(),
  }).required(),
}).options({ stripUnknown: true, convert: false });

const UUID = /[0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12}/g;

/**
 * New ids for a newsletter that is brought back: always the same for the same old one, so that a worker that goes on where another fell gives the same,
 * and nobody else's, whatever the file says. Their time stays (RFC 9562 section 5.7), and with it the order in which they lie.
 */
export function renamer(newsletterId: string): (old: string) => string {
  return (old) => {
    const hash = createHmac('sha256', newsletterId).update(old).digest('hex');
    const variant = '89ab'[Number.parseInt(hash[3]!, 16) & 3];
    return `${old.slice(0, 13)}-7${hash.slice(0, 3)}-${variant}${hash.slice(4, 7)}-${hash.slice(8, 20)}`;
  };
}

/** Replaces the ids within something, those that the file itself gives; and addresses of pictures that come along by their new ones. */
export function renamed(
  text: string,
  known: ReadonlySet<string>,
  rename: (old: string) => string,
  pictures: { from: string; to: string },
): string {
  const moved =
    pictures.from && pictures.from !== pictures.to
      ? text.replaceAll(`${pictures.from}/e/media/`, `${pictures.to}/e/media/`)
      : text;
  return moved.replace(UUID, (found) => (known.has(found) ? rename(found) : found));
}

/** What stands in the zip for whoever opens it without a program of ours. */
export function readme(whole: WholeNewsletter): string {
  const lines = SHEETS.map(
    (sheet) =>
      `  ${`${sheet.name}.jsonl`.padEnd(24)}${whole.lines[sheet.name]} ${whole.lines[sheet.name] === 1 ? 'line' : 'lines'}`,
  );
  return `${whole.newsletter.name}
${'='.repeat([...whole.newsletter.name].length)}

A whole newsletter, taken out on ${whole.made_at.slice(0, 10)} by ${whole.made_by}.

${FIRST_FILE} says what it is. Everything else stands in files of JSON Lines
(UTF-8, one object a line), which any program can read:

${lines.join('\n')}

"readers.jsonl" holds with each reader the lists they are on, their tags and
their answers; "consents.jsonl" is the record of who agreed to what, when, and
in which words; "deliveries.jsonl" and "events.jsonl" are the results: every
copy of every letter, and what became of it.

For people, and for other programs:

  posts/     each post as Markdown with its particulars in YAML, and as HTML
  letters/   each letter that was sent, as a message (RFC 5322)
  pictures/  logo and pictures of forms, as PNG or JPEG
  files/     files that forms give away

What is not in here: who works on the newsletter, keys that sign its mail and
the password of a mail service, since they are secrets; links that wait in
somebody's mailbox; sign-ups that were held back; what imports and acts on many
readers were made of.

It is personal data of everybody in it. Keep it where nobody else reads it, and
delete it when it has served.
`;
}
