import Joi from 'joi';
import { LANES } from '../autosend/lanes';
import { ruleSettingsSchema } from '../autosend/schemas';
import { REASON_NAMES } from '../delivery/reason';
import { formDefinitionSchema } from '../forms/definition';
import { FIELD_KINDS } from '../forms/fields';
import { conditionSchema } from '../readers/condition';
import { audienceSchema, departureSchema, keptTestSchema, keptVerdictSchema } from '../sending/schemas';
import { documentSchema, layoutSchema } from '../writing/schemas';
import { whole } from '../writing/slots';

/**
 * What a whole newsletter is made of when it is taken out: one sheet a table, of JSON Lines (one object a line), in the order in which they can be brought
 * back. Writing and reading are both made from these, so that no column can be taken out and forgotten on the way back.
 */

/** What has an id of its own that other sheets name. */
export type Thing =
  | 'picture'
  | 'list'
  | 'field'
  | 'segment'
  | 'audience'
  | 'layout'
  | 'sender'
  | 'form'
  | 'form test'
  | 'import'
  | 'reader'
  | 'post'
  | 'feed'
  | 'feed item'
  | 'rule'
  | 'run'
  | 'letter'
  | 'growth note';

export type Column = {
  /** Its type in the database. */
  type: string;
  rule: Joi.Schema;
  /** It is an id: its own, or that of what it names. */
  id?: Thing;
  /** Ids, and addresses of our pictures, stand somewhere within. */
  within?: true;
  /** A mail domain by its name, where the table has a number. */
  domain?: true;
};
export type Sheet = {
  /** Its file, without the ending. */
  name: string;
  table: string;
  /** Its own id, which other sheets may name. */
  thing?: Thing;
  /** How its rows belong to the newsletter where they do not say so themselves: by this column. */
  by?: { column: string; table: string };
  columns: Record<string, Column>;
  /** Few enough that a program may know all of them at once. */
  few?: true;
  /** Its rows have an order, that of the ids they have here. */
  ordered?: true;
};

/** Text as a database can keep it: without NUL and halves of characters. */
const text = (most: number) =>
  Joi.string()
    .allow('')
    .max(most)
    .custom((value: string, helpers) => (/\0/.test(value) || whole(value) !== value ? helpers.error('any.invalid') : value));
/** JSON that the database can keep. */
const keepable = (value: unknown): boolean => {
  if (typeof value === 'string') return !/\0/.test(value) && whole(value) === value;
  if (value === null || typeof value !== 'object') return true;
  return Object.entries(value).every(([name, part]) => keepable(name) && keepable(part));
};
const json = (rule: Joi.Schema, within = false): Column => ({
  type: 'jsonb',
  rule: rule.custom((value, helpers) => (keepable(value) ? value : helpers.error('any.invalid'))),
  ...(within ? { within: true } : {}),
});
const maybe = (column: Column): Column => ({ ...column, rule: column.rule.allow(null).default(null) });
const words = (most: number): Column => ({ type: 'text', rule: text(most).required() });
const one = (...of: string[]): Column => ({
  type: 'text',
  rule: Joi.string()
    .valid(...of)
    .required(),
});
const time: Column = {
  type: 'timestamptz',
  rule: Joi.string()
    .pattern(/^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d{1,6})?(Z|[+-]\d\d(:?\d\d)?)$/)
    .required(),
};
const day: Column = {
  type: 'date',
  rule: Joi.string()
    .pattern(/^\d{4}-\d\d-\d\d$/)
    .required(),
};
const int: Column = { type: 'int', rule: Joi.number().integer().min(0).max(2_000_000_000).required() };
const small: Column = { type: 'smallint', rule: Joi.number().integer().min(-1).max(30_000).required() };
const real: Column = { type: 'real', rule: Joi.number().min(0).max(1e9).required() };
const flag: Column = { type: 'boolean', rule: Joi.boolean().required() };
/** Sixty bits, as a number that may be larger than those of JSON are sure to be kept. */
const bits: Column = {
  type: 'bigint',
  rule: Joi.alternatives(Joi.number().integer(), Joi.string().pattern(/^-?\d{1,19}$/)).required(),
};
const uuid = Joi.string().pattern(/^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$/);
const id = (thing: Thing): Column => ({ type: 'uuid', rule: uuid.required(), id: thing });
const ids = (thing: Thing, most: number): Column => ({
  type: 'uuid[]',
  rule: Joi.array().items(uuid).max(most).required(),
  id: thing,
});
const domain: Column = { type: 'text', rule: text(255).required(), domain: true };

const TOUCH = Joi.object().pattern(/^[a-z]{1,20}$/, text(2_000));
export const MEMBER_STATES = ['waiting', 'reading', 'left'];

/** A reader's parts that stand in their own line: on which lists, with which tags, what they answered. */
export const READER_PARTS = {
  lists: json(
    Joi.array()
      .items(
        Joi.object({
          list: uuid.required(),
          state: one(...MEMBER_STATES).rule,
          since: time.rule,
          joined_at: time.rule.allow(null).required(),
        }),
      )
      .max(1_000)
      .unique('list')
      .required(),
  ),
  tags: json(
    Joi.array()
      .items(Joi.object({ tag: text(100).min(1).required(), at: time.rule }))
      .max(2_000)
      .unique('tag')
      .required(),
  ),
  answers: json(
    Joi.array()
      .items(
        Joi.object({
          field: uuid.required(),
          value: Joi.alternatives(text(20_000), Joi.number(), Joi.boolean(), Joi.array().items(text(400)).max(100)).required(),
          at: time.rule,
        }),
      )
      .max(500)
      .unique('field')
      .required(),
  ),
};

export const SHEETS: Sheet[] = [
  {
    name: 'pictures',
    table: 'media',
    thing: 'picture',
    few: true,
    columns: {
      id: id('picture'),
      kind: one('logo', 'gift', 'picture'),
      name: words(200),
      content_type: one('image/png', 'image/jpeg', 'application/octet-stream'),
      width: int,
      height: int,
      created_at: time,
    },
  },
  {
    name: 'lists',
    table: 'lists',
    thing: 'list',
    few: true,
    columns: {
      id: id('list'),
      name: words(200),
      public_name: words(200),
      description: words(2_000),
      public: flag,
      double_opt_in: flag,
      position: int,
      archived_at: maybe(time),
      welcome: maybe(json(Joi.object({ subject: text(200).required(), words: text(5_000).required() }))),
      created_at: time,
    },
  },
  {
    name: 'fields',
    table: 'fields',
    thing: 'field',
    few: true,
    columns: {
      id: id('field'),
      key: words(60),
      label: words(200),
      kind: one(...FIELD_KINDS),
      options: json(Joi.array().items(text(200)).max(200).required()),
      created_at: time,
    },
  },
  { name: 'tags', table: 'tags', few: true, columns: { name: words(100), created_at: time } },
  {
    name: 'segments',
    table: 'segments',
    thing: 'segment',
    few: true,
    columns: {
      id: id('segment'),
      name: words(200),
      condition: json(conditionSchema.required(), true),
      created_at: time,
      updated_at: time,
    },
  },
  {
    name: 'segment-sizes',
    table: 'segment_sizes',
    by: { column: 'segment_id', table: 'segments' },
    columns: { segment_id: id('segment'), day, people: int },
  },
  {
    name: 'growth-notes',
    table: 'growth_notes',
    few: true,
    columns: { id: id('growth note'), day, words: words(200), created_at: time },
  },
  {
    name: 'audiences',
    table: 'audiences',
    thing: 'audience',
    few: true,
    columns: { id: id('audience'), name: words(200), audience: json(audienceSchema.required(), true), created_at: time },
  },
  {
    name: 'layouts',
    table: 'layouts',
    thing: 'layout',
    few: true,
    columns: {
      id: id('layout'),
      name: words(200),
      layout: json(layoutSchema.required(), true),
      is_default: flag,
      updated_at: time,
    },
  },
  {
    name: 'senders',
    table: 'senders',
    thing: 'sender',
    few: true,
    columns: {
      id: id('sender'),
      name: words(200),
      address: words(320),
      domain: words(255),
      reply_to: maybe(words(320)),
      created_at: time,
    },
  },
  { name: 'domains', table: 'domains', few: true, columns: { name: words(255) } },
  {
    name: 'imports',
    table: 'imports',
    thing: 'import',
    few: true,
    columns: {
      id: id('import'),
      name: words(200),
      by_name: words(200),
      state: one('asking', 'looking', 'looked', 'bringing', 'done', 'stopped', 'failed', 'undoing', 'undone'),
      result: json(Joi.object().pattern(text(40), Joi.number().integer()).required()),
      began_at: time,
      ended_at: maybe(time),
    },
  },
  {
    name: 'forms',
    table: 'forms',
    thing: 'form',
    few: true,
    columns: {
      id: id('form'),
      public_id: {
        type: 'text',
        rule: Joi.string()
          .pattern(/^[A-Za-z0-9_-]{4,40}$/)
          .required(),
      },
      name: words(200),
      definition: json(formDefinitionSchema.required(), true),
      list_ids: ids('list', 200),
      hosted: flag,
      draft: maybe(json(formDefinitionSchema, true)),
      draft_list_ids: maybe(ids('list', 200)),
      draft_saved_at: maybe(time),
      version: int,
      archived_at: maybe(time),
      created_at: time,
      updated_at: time,
    },
  },
  {
    name: 'form-versions',
    table: 'form_versions',
    by: { column: 'form_id', table: 'forms' },
    columns: {
      form_id: id('form'),
      version: int,
      definition: json(formDefinitionSchema.required(), true),
      list_ids: ids('list', 200),
      published_at: time,
    },
  },
  {
    name: 'form-tests',
    table: 'form_tests',
    by: { column: 'form_id', table: 'forms' },
    columns: {
      id: id('form test'),
      form_id: id('form'),
      definition: json(formDefinitionSchema.required(), true),
      started_at: time,
      ended_at: maybe(time),
      kept: maybe(one('a', 'b')),
    },
  },
  {
    name: 'form-places',
    table: 'form_places',
    by: { column: 'form_id', table: 'forms' },
    columns: {
      form_id: id('form'),
      host: words(300),
      path: words(3_000),
      first_at: time,
      last_at: time,
      loads: { ...int, type: 'bigint' },
    },
  },
  {
    name: 'form-days',
    table: 'form_days',
    columns: { form_id: id('form'), day, variant: words(20), loaded: int, seen: int, started: int, sent_in: int, confirmed: int },
  },
  {
    name: 'readers',
    table: 'readers',
    thing: 'reader',
    columns: {
      id: id('reader'),
      address: words(254),
      first_name: maybe(words(400)),
      address_state: one('fine', 'bouncing', 'unreachable', 'suppressed'),
      soft_evidence: real,
      soft_at: maybe(time),
      confirmed: flag,
      last_sent_at: maybe(time),
      last_read_at: maybe(time),
      last_clicked_at: maybe(time),
      letters_got: int,
      recent_read: bits,
      recent_clicked: bits,
      recent_hidden: bits,
      warmth: small,
      warmth_at: maybe(time),
      zone: maybe(words(100)),
      paused_until: maybe(time),
      text_alone: flag,
      note: words(20_000),
      source_form_id: maybe(id('form')),
      source_import_id: maybe(id('import')),
      source_page: maybe(words(3_000)),
      source_referrer: maybe(words(3_000)),
      source_class: one('search', 'social', 'mail', 'link', 'campaign', 'direct'),
      source_name: words(400),
      source_placement: maybe(words(100)),
      source_variant: maybe(words(20)),
      source_language: maybe(words(40)),
      first_touch: maybe(json(TOUCH)),
      last_touch: maybe(json(TOUCH)),
      created_on: day,
      created_at: time,
    },
  },
  {
    name: 'consents',
    table: 'consents',
    ordered: true,
    columns: {
      reader_id: id('reader'),
      list_id: maybe(id('list')),
      list_name: maybe(words(200)),
      act: one(
        'ask',
        'confirm',
        'leave',
        'return',
        'bounce',
        'complaint',
        'add',
        'take off',
        'suppress',
        'allow',
        'erase',
        'pause',
        'go on',
        'move',
        'stay',
      ),
      state: words(60),
      at: time,
      actor: one('reader', 'member', 'import', 'api', 'mail'),
      actor_name: maybe(words(200)),
      form_id: maybe(id('form')),
      page: maybe(words(3_000)),
      referrer: maybe(words(3_000)),
      wording: maybe(words(5_000)),
      network: maybe(words(100)),
      agent: maybe(words(1_000)),
    },
  },
  {
    name: 'suppressions',
    table: 'suppressions',
    columns: {
      address_key: words(320),
      hashed: flag,
      reason: one('hard bounce', 'complaint', 'erased', 'by hand', 'left'),
      at: time,
      detail: maybe(words(2_000)),
      import_id: maybe(id('import')),
    },
  },
  {
    name: 'posts',
    table: 'posts',
    thing: 'post',
    columns: {
      id: id('post'),
      slug: words(300),
      title: words(2_000),
      subtitle: words(5_000),
      document: json(documentSchema.required(), true),
      revision: int,
      link: maybe(words(3_000)),
      picture: { ...maybe(words(3_000)), within: true },
      created_at: time,
      updated_at: time,
      goes: one('both', 'letter', 'page'),
      audience: one('everybody', 'readers'),
      topics: { type: 'text[]', rule: Joi.array().items(text(100)).max(20).required() },
      picture_alt: words(1_000),
      description: words(1_000),
      canonical: maybe(words(3_000)),
      author: words(200),
      guest: words(200),
      published_at: maybe(time),
    },
  },
  {
    name: 'post-slugs',
    table: 'post_slugs',
    columns: { slug: words(300), post_id: id('post') },
  },
  {
    name: 'post-versions',
    table: 'post_versions',
    by: { column: 'post_id', table: 'posts' },
    columns: {
      post_id: id('post'),
      revision: int,
      title: words(2_000),
      subtitle: words(5_000),
      document: json(documentSchema.required(), true),
      by_name: words(200),
      at: time,
    },
  },
  {
    name: 'feeds',
    table: 'feeds',
    thing: 'feed',
    few: true,
    columns: {
      id: id('feed'),
      url: maybe({
        type: 'text',
        rule: Joi.string()
          .uri({ scheme: ['http', 'https'] })
          .max(2_000)
          .required(),
      }),
      title: words(1_000),
      read_at: maybe(time),
      created_at: time,
    },
  },
  {
    name: 'auto-sends',
    table: 'auto_sends',
    thing: 'rule',
    few: true,
    columns: {
      id: id('rule'),
      name: words(200),
      settings: json(ruleSettingsSchema.required()),
      audience: json(audienceSchema.required(), true),
      sender_id: id('sender'),
      layout_id: id('layout'),
      intro: words(4_000),
      created_at: time,
    },
  },
  {
    name: 'auto-send-feeds',
    table: 'auto_send_feeds',
    by: { column: 'auto_send_id', table: 'auto_sends' },
    columns: { auto_send_id: id('rule'), feed_id: id('feed'), since: time },
  },
  {
    name: 'feed-items',
    table: 'feed_items',
    thing: 'feed item',
    by: { column: 'feed_id', table: 'feeds' },
    ordered: true,
    columns: {
      id: id('feed item'),
      feed_id: id('feed'),
      item_key: words(3_000),
      title: words(2_000),
      link: words(3_000),
      author: words(200),
      topics: { type: 'text[]', rule: Joi.array().items(text(100)).max(20).required() },
      summary: words(2_000),
      document: json(documentSchema.allow(null), true),
      picture: { ...maybe(words(3_000)), within: true },
      pictures: json(Joi.object().pattern(text(3_000), text(3_000)).max(100).required(), true),
      words: words(200_000),
      source: words(100),
      print: maybe(words(100)),
      published_at: maybe(time),
      first_seen_at: time,
      changed_at: time,
      gone_at: maybe(time),
    },
  },
  {
    name: 'rule-posts',
    table: 'rule_posts',
    by: { column: 'auto_send_id', table: 'auto_sends' },
    columns: {
      auto_send_id: id('rule'),
      item_id: id('feed item'),
      state: one('before', 'waiting', 'held', 'ready', 'left out', 'no match'),
      place: maybe(int),
      ready_at: maybe(time),
      filed_at: time,
    },
  },
  {
    name: 'rule-lanes',
    table: 'rule_lanes',
    by: { column: 'auto_send_id', table: 'auto_sends' },
    columns: { auto_send_id: id('rule'), lane: one(...LANES), upto: int },
  },
  {
    name: 'rule-runs',
    table: 'rule_runs',
    thing: 'run',
    by: { column: 'auto_send_id', table: 'auto_sends' },
    columns: {
      id: id('run'),
      auto_send_id: id('rule'),
      lane: one(...LANES),
      at: time,
      upto: int,
      state: one('draft', 'going', 'done', 'nothing', 'skipped', 'dropped'),
      words: words(1_000),
      grouped: flag,
    },
  },
  {
    name: 'rhythms',
    table: 'reader_rhythms',
    columns: { auto_send_id: id('rule'), reader_id: id('reader'), lane: one(...LANES), since: maybe(int), chosen_at: time },
  },
  {
    name: 'letters',
    table: 'letters',
    thing: 'letter',
    few: true,
    columns: {
      id: id('letter'),
      kind: one('post', 'digest', 'series', 'proof'),
      post_id: maybe(id('post')),
      auto_send_id: maybe(id('rule')),
      run_id: maybe(id('run')),
      lane: maybe(one(...LANES)),
      joining: flag,
      layout_id: maybe(id('layout')),
      audience: json(audienceSchema.required(), true),
      sender_id: maybe(id('sender')),
      subject: words(1_000),
      preview_line: words(1_000),
      own_subject: flag,
      own_preview: flag,
      archived_at: maybe(time),
      own_text: maybe(words(1_000_000)),
      own_text_of: maybe(words(100)),
      departure: json(departureSchema.allow(null)),
      again_of: maybe(id('letter')),
      test: json(keptTestSchema.allow(null)),
      verdict: json(keptVerdictSchema.allow(null)),
      winner: maybe(small),
      counts_opens: flag,
      counts_clicks: flag,
      state: one('draft', 'scheduled', 'held', 'starting', 'sending', 'paused', 'stopped', 'sent'),
      cause: maybe(words(2_000)),
      state_at: time,
      due_at: time,
      started_at: maybe(time),
      finished_at: maybe(time),
      sent_on: maybe(day),
      html: { ...maybe(words(2_000_000)), within: true },
      text: maybe(words(1_000_000)),
      chips: json(
        Joi.array()
          .items(Joi.object({ field: text(100).required(), fallback: text(400).required() }))
          .max(200)
          .required(),
      ),
      from_name: maybe(words(200)),
      from_address: maybe(words(320)),
      reply_to: maybe(words(320)),
      created_at: time,
    },
  },
  {
    name: 'letter-versions',
    table: 'letter_versions',
    by: { column: 'letter_id', table: 'letters' },
    columns: {
      letter_id: id('letter'),
      n: small,
      subject: words(1_000),
      sender_id: maybe(id('sender')),
      beginning: words(10_000),
      from_name: maybe(words(200)),
      from_address: maybe(words(320)),
      reply_to: maybe(words(320)),
      html: { ...maybe(words(2_000_000)), within: true },
      text: maybe(words(1_000_000)),
    },
  },
  {
    name: 'letter-links',
    table: 'letter_links',
    by: { column: 'letter_id', table: 'letters' },
    columns: { letter_id: id('letter'), position: int, url: words(3_000), clicks: int },
  },
  {
    name: 'letter-posts',
    table: 'letter_posts',
    by: { column: 'letter_id', table: 'letters' },
    columns: { letter_id: id('letter'), auto_send_id: id('rule'), item_id: id('feed item'), place: int },
  },
  {
    name: 'deliveries',
    table: 'deliveries',
    columns: {
      sent_on: day,
      letter_id: id('letter'),
      reader_id: id('reader'),
      address: words(320),
      domain_id: domain,
      variant: small,
      state: one('kept', 'queued', 'claimed', 'delivered', 'bounced', 'refused', 'given up', 'cancelled'),
      due_at: time,
      attempts: small,
      tried_at: maybe(time),
      delivered_at: maybe(time),
      opened_at: maybe(time),
      opened_by_machine_at: maybe(time),
      clicked_at: maybe(time),
      left_at: maybe(time),
      response: maybe(words(4_000)),
      reason: maybe(one(...REASON_NAMES)),
    },
  },
  {
    name: 'events',
    table: 'events',
    columns: {
      day,
      at: time,
      letter_id: id('letter'),
      reader_id: id('reader'),
      kind: one('open', 'click', 'leave', 'bounce', 'complaint'),
      machine: flag,
      link_position: maybe(int),
      agent: maybe(words(1_000)),
      why: maybe(words(40)),
    },
  },
  {
    name: 'letter-figures',
    table: 'letter_domain_counts',
    columns: {
      letter_id: id('letter'),
      domain_id: maybe(domain),
      recipients: int,
      delivered: int,
      bounced: int,
      refused: int,
      given_up: int,
      cancelled: int,
      opened_people: int,
      opened_machines: int,
      clicked: int,
      left_count: int,
      complained: int,
      hidden: int,
    },
  },
  { name: 'days', table: 'daily_counts', columns: { day, joined: int, left_count: int } },
];

/** How a whole line of a sheet is held against what it may say; what a later version adds is passed over. */
export const lineSchema = (sheet: Sheet): Joi.ObjectSchema<Record<string, unknown>> =>
  Joi.object(
    Object.fromEntries(
      [...Object.entries(sheet.columns), ...(sheet.thing === 'reader' ? Object.entries(READER_PARTS) : [])].map(
        ([name, { rule }]) => [name, rule],
      ),
    ),
  ).options({ convert: false, stripUnknown: true, errors: { wrap: { label: '“”' } } });

/** A line may be so long, and no longer: a post or a letter with all its words. */
export const MOST_LINE = 8_000_000;
