import type { ColumnType, Generated, JSONColumnType } from 'kysely';
import type { RampPlan } from '@/core/delivery/ramp';
import type { MailVerdict } from '@/core/delivery/verdicts';
import type { FormDefinition } from '@/core/forms/definition';
import type { Answer, FieldKind } from '@/core/forms/fields';
import type { SourceClass, Touch } from '@/core/growth/attribution';
import type { AlertWhen, SocialLink } from '@/core/newsletters/identity';
import type { Role } from '@/core/newsletters/roles';
import type { ReaderAct, ReaderState } from '@/core/readers/state';
import type { Judgement, Verdict } from '@/core/senders/judge';
import type { RecordPurpose } from '@/core/senders/records';
import type { Document, Layout } from '@/core/writing/document';
import type { Notice } from '@/core/writing/notice';

/** The tables as Kysely sees them. bigint keys come as strings, dates as YYYY-MM-DD (see connection.ts). */
export type Schema = {
  user: UserTable;
  newsletters: NewsletterTable;
  members: { newsletter_id: string; user_id: string; role: Role; created_at: Date };
  invitations: {
    id: string;
    newsletter_id: string;
    email: string;
    role: Role;
    token_hash: Buffer;
    sent_at: Date;
    expires_at: Date;
  };
  media: {
    id: string;
    newsletter_id: string;
    kind: 'logo' | 'gift' | 'picture';
    name: Generated<string>;
    content_type: string;
    width: number;
    height: number;
    created_at: Date;
  };
  domain_keys: DomainKeyTable;
  domain_checks: {
    id: Generated<string>;
    domain_id: string;
    at: Date;
    state: string;
    verdicts: JSONColumnType<CheckVerdict[]>;
    changed: boolean;
    took_ms: number;
  };
  domain_days: {
    domain_id: string;
    day: string;
    planned: Generated<number>;
    delivered: Generated<number>;
    bounced: Generated<number>;
    complained: Generated<number>;
  };
  relays: RelayTable;
  test_letters: TestLetterTable;
  installation: { only_one: Generated<boolean>; selector: string; public_key: string; private_key: Buffer };
  senders: SenderTable;
  domains: DomainTable;
  outbox: OutboxTable;
  rate_limits: { key: string; window_start: Date; count: number };
  workers: { id: string; seen_at: Generated<Date> };
  lists: ListTable;
  forms: FormTable;
  readers: ReaderTable;
  memberships: {
    reader_id: string;
    list_id: string;
    newsletter_id: string;
    state: ReaderState;
    since: Date;
    joined_at: Date | null;
  };
  consents: ConsentTable;
  confirmations: {
    token_hash: Buffer;
    newsletter_id: string;
    reader_id: string;
    list_ids: string[];
    form_id: string | null;
    sent_at: Date;
    expires_at: Date;
    used_at: Date | null;
    variant: Generated<string>;
    reminded_at: Date | null;
  };
  suppressions: {
    newsletter_id: string;
    address_key: string;
    reason: 'hard bounce' | 'complaint' | 'erased';
    at: Date;
    detail: string | null;
  };
  daily_counts: {
    newsletter_id: string;
    day: string;
    asked: Generated<number>;
    joined: Generated<number>;
    left_count: Generated<number>;
  };
  form_days: {
    form_id: string;
    newsletter_id: string;
    day: string;
    loaded: Generated<number>;
    sent_in: Generated<number>;
    confirmed: Generated<number>;
    variant: Generated<string>;
    seen: Generated<number>;
    started: Generated<number>;
  };
  form_versions: {
    form_id: string;
    version: number;
    definition: JSONColumnType<FormDefinition>;
    list_ids: string[];
    published_at: Date;
  };
  form_places: { form_id: string; host: string; path: string; first_at: Date; last_at: Date; loads: Generated<string> };
  form_tests: {
    id: string;
    form_id: string;
    definition: JSONColumnType<FormDefinition>;
    started_at: Date;
    ended_at: Date | null;
    kept: 'a' | 'b' | null;
  };
  trials: {
    id: string;
    form_id: string;
    newsletter_id: string;
    address: string;
    token_hash: Buffer;
    started_at: Date;
    sent_in_at: Date | null;
    ended_at: Date | null;
  };
  fields: {
    id: string;
    newsletter_id: string;
    key: string;
    label: string;
    kind: FieldKind;
    options: ColumnType<string[], string, string>;
    created_at: Date;
  };
  reader_answers: { reader_id: string; field_id: string; value: ColumnType<Answer, string, string>; at: Date };
  reader_tags: { reader_id: string; newsletter_id: string; tag: string; at: Date };
  layouts: { id: string; newsletter_id: string; name: string; layout: JSONColumnType<Layout>; updated_at: Date };
  auto_sends: AutoSendTable;
  letters: LetterTable;
  letter_links: { letter_id: string; position: number; url: string; clicks: Generated<number> };
  feed_items: {
    auto_send_id: string;
    item_key: string;
    title: string;
    link: string;
    published_at: Date | null;
    first_seen_at: Date;
    letter_id: string | null;
  };
  letter_counts: LetterCountsTable;
  deliveries: DeliveryTable;
  events: EventTable;
};

type UserTable = {
  id: string;
  name: string;
  email: string;
  emailVerified: boolean;
  createdAt: Generated<Date>;
  updatedAt: Generated<Date>;
};

export type NewsletterTable = {
  id: string;
  slug: string;
  name: string;
  description: string;
  postal_address: string;
  reason_line: string;
  time_zone: string;
  language: string;
  colour: string;
  created_at: Date;
  logo_id: string | null;
  accent: Generated<string>;
  site: Generated<string>;
  social_links: ColumnType<SocialLink[], string | undefined, string>;
  alert_joins: Generated<AlertWhen>;
  alert_leaves: Generated<AlertWhen>;
  alerts_due_at: Date | null;
  default_sender_id: string | null;
};

type SenderTable = {
  id: string;
  newsletter_id: string;
  name: string;
  address: string;
  domain: string;
  reply_to: string | null;
  confirmed_at: Date | null;
  proof_hash: Buffer | null;
  proof_sent_at: Date | null;
  proof_expires_at: Date | null;
  created_at: Date;
};

export type StoredJudgement = Judgement & { purpose: RecordPurpose };

type DomainTable = {
  id: string;
  newsletter_id: string;
  name: string;
  reports_token: string;
  state: Generated<'unknown' | 'incomplete' | 'authenticated'>;
  judgements: ColumnType<StoredJudgement[], string | undefined, string>;
  checked_at: Date | null;
  next_check_at: Date;
  checks_since_change: Generated<number>;
  created_at: Date;
  zone: string | null;
  name_servers: Generated<string[]>;
  steady_since: Date | null;
  keys_by_alias: Generated<boolean>;
  facts: ColumnType<DomainFacts, string | undefined, string>;
  ramp: ColumnType<RampPlan | null, string | null | undefined, string | null>;
};

/** What a check found beside the records. */
export type DomainFacts = {
  envelope?: { result: string; reason: string };
  spfLookups?: { before: number; after: number } | null;
  nextStep?: { policy: string; paste: string } | null;
  /** Purposes whose old answer resolvers may still remember, and for how many seconds. */
  remembered?: Record<string, number>;
  disagreed?: string[];
};
export type CheckVerdict = { purpose: RecordPurpose; verdict: Verdict; label: string };

type DomainKeyTable = {
  id: string;
  domain_id: string;
  selector: string;
  algorithm: 'rsa' | 'ed25519';
  role: 'active' | 'next' | 'second' | 'retired';
  public_key: string;
  private_key: Buffer;
  created_at: Date;
};

type RelayTable = {
  newsletter_id: string;
  host: string;
  port: number;
  tls: 'required' | 'implicit' | 'none';
  user_name: string;
  password: Buffer;
  per_hour: number;
  per_day: number;
  switched_on: Generated<boolean>;
  probed_at: Date | null;
  probe_fault: string | null;
};

type TestLetterTable = {
  id: string;
  newsletter_id: string;
  domain_id: string;
  token: string;
  from_address: string;
  to_address: string;
  sent_at: Date;
  response: string;
  verdicts: ColumnType<MailVerdict[] | null, string | null | undefined, string | null>;
  answered_at: Date | null;
};

type OutboxTable = {
  id: Generated<string>;
  newsletter_id: string | null;
  kind: string;
  from_name: string;
  from_address: string;
  reply_to: string | null;
  to_address: string;
  subject: string;
  notice: JSONColumnType<Notice>;
  leave_url: string | null;
  state: Generated<'queued' | 'sent' | 'failed'>;
  attempts: Generated<number>;
  due_at: Date;
  response: string | null;
  created_at: Date;
  sent_at: Date | null;
  reader_id: string | null;
  left_at: Date | null;
};

type ListTable = {
  id: string;
  newsletter_id: string;
  name: string;
  public_name: string;
  double_opt_in: Generated<boolean>;
  position: Generated<number>;
  created_at: Date;
};

type FormTable = {
  id: string;
  newsletter_id: string;
  public_id: string;
  name: string;
  definition: JSONColumnType<FormDefinition>;
  list_ids: string[];
  hosted: Generated<boolean>;
  created_at: Date;
  updated_at: Date;
  draft: ColumnType<FormDefinition | null, string | null | undefined, string | null>;
  draft_list_ids: string[] | null;
  draft_saved_at: Date | null;
  version: Generated<number>;
  archived_at: Date | null;
};

type ReaderTable = {
  id: string;
  newsletter_id: string;
  address: string;
  address_key: string;
  provider: string;
  first_name: string | null;
  address_state: Generated<'fine' | 'bouncing' | 'suppressed'>;
  source_form_id: string | null;
  source_page: string | null;
  source_referrer: string | null;
  created_at: Date;
  first_touch: ColumnType<Touch | null, string | null | undefined, string | null>;
  last_touch: ColumnType<Touch | null, string | null | undefined, string | null>;
  source_class: Generated<SourceClass>;
  source_name: Generated<string>;
  source_placement: string | null;
  source_variant: string | null;
  source_language: string | null;
  source_medium: Generated<string | null>;
  source_campaign: Generated<string | null>;
  trial_id: string | null;
};

type ConsentTable = {
  id: Generated<string>;
  newsletter_id: string;
  reader_id: string;
  list_id: string;
  act: ReaderAct | 'bounce' | 'complaint';
  state: string;
  at: Date;
  form_id: string | null;
  page: string | null;
  referrer: string | null;
  wording: string | null;
  network: string | null;
  agent: string | null;
};

type AutoSendTable = {
  id: string;
  newsletter_id: string;
  name: string;
  feed_url: string;
  sender_id: string;
  list_id: string;
  layout_id: string;
  switched_on_at: Date | null;
  baseline_at: Date | null;
  etag: string | null;
  last_modified: string | null;
  next_poll_at: Date | null;
  polled_at: Date | null;
  failures: Generated<number>;
  fault: string | null;
  feed_title: string | null;
  created_at: Date;
};

export type LetterTable = {
  id: string;
  newsletter_id: string;
  auto_send_id: string | null;
  list_id: string | null;
  sender_id: string | null;
  title: string;
  subject: string;
  preview_line: string;
  document: JSONColumnType<Document>;
  state: 'due' | 'sending' | 'sent';
  due_at: Date;
  started_at: Date | null;
  finished_at: Date | null;
  sent_on: string | null;
  html: string | null;
  text: string | null;
  from_name: string | null;
  from_address: string | null;
  reply_to: string | null;
  domain_id: string | null;
  fault: string | null;
  created_at: Date;
};

type LetterCountsTable = {
  letter_id: string;
  newsletter_id: string;
  recipients: Generated<number>;
  delivered: Generated<number>;
  bounced: Generated<number>;
  refused: Generated<number>;
  opened_people: Generated<number>;
  opened_machines: Generated<number>;
  clicked: Generated<number>;
  left_count: Generated<number>;
  complained: Generated<number>;
};

type DeliveryTable = {
  id: Generated<string>;
  sent_on: string;
  newsletter_id: string;
  letter_id: string;
  reader_id: string;
  address: string;
  provider: string;
  route: string;
  state: Generated<'queued' | 'claimed' | 'delivered' | 'bounced' | 'refused'>;
  due_at: Date;
  attempts: Generated<number>;
  claimed_by: string | null;
  delivered_at: Date | null;
  opened_at: Date | null;
  opened_by_machine_at: Date | null;
  clicked_at: Date | null;
  left_at: Date | null;
  response: string | null;
};

type EventTable = {
  id: Generated<string>;
  day: string;
  at: Date;
  newsletter_id: string;
  letter_id: string;
  delivery_id: string;
  reader_id: string;
  kind: 'open' | 'click' | 'leave' | 'bounce' | 'complaint';
  machine: Generated<boolean>;
  link_position: number | null;
  agent: string | null;
};
