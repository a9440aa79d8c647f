import type { ColumnType, Generated, JSONColumnType } from 'kysely';
import type { WholeNewsletter } from '@/core/archive/newsletter';
import type { Lane } from '@/core/autosend/lanes';
import type { RuleSettings } from '@/core/autosend/rule';
import type { DmarcSource, PublishedPolicy, SourceDetail } from '@/core/delivery/dmarc-report';
import type { FeedbackKind } from '@/core/delivery/feedback';
import type { MachineReason } from '@/core/delivery/machine';
import type { RampPlan } from '@/core/delivery/ramp';
import type { Reason } from '@/core/delivery/reason';
import type { Place } from '@/core/delivery/seeds';
import type { TlsFailure } from '@/core/delivery/tls-report';
import type { MailVerdict } from '@/core/delivery/verdicts';
import type { ExportColumn, ExportKind, ExportState } from '@/core/exporting';
import type { FormDefinition } from '@/core/forms/definition';
import type { Answer, FieldKind } from '@/core/forms/fields';
import type { ListWelcome } from '@/core/forms/mails';
import type { SourceClass, Touch } from '@/core/growth/attribution';
import type { WarningKind } from '@/core/growth/watch';
import type { Matched } from '@/core/importing/columns';
import type { Dialect } from '@/core/importing/dialect';
import type { Found, ImportPlan, ImportState, RowKind } from '@/core/importing/import';
import type { DateOrder, FileState } from '@/core/importing/values';
import type { AlertWhen, SocialLink } from '@/core/newsletters/identity';
import type { Role } from '@/core/newsletters/roles';
import type { Agreement, BulkAct, BulkState, BulkWhat, Whom } from '@/core/readers/bulk';
import type { ColdCounts } from '@/core/readers/cold';
import type { Condition } from '@/core/readers/condition';
import type { ConsentAct, ConsentActor, ReaderState, SuppressionReason } from '@/core/readers/state';
import type { Judgement, Verdict } from '@/core/senders/judge';
import type { RecordPurpose } from '@/core/senders/records';
import type { Audience } from '@/core/sending/audience';
import type { Departure } from '@/core/sending/departure';
import type { LetterState } from '@/core/sending/letter-state';
import type { LetterTest } from '@/core/sending/letter-test';
import type { LetterFigures } from '@/core/sending/result';
import type { StsPolicy } from '@/core/sending/sts';
import type { Arm, Verdict as TestVerdict } from '@/core/sending/subject-test';
import type { Document } from '@/core/writing/document';
import type { Layout } from '@/core/writing/layout';
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
  routes: RouteTable;
  route_names: { name: string; route_id: number };
  mail_domains: MailDomainTable;
  relay_hours: { newsletter_id: string; hour: Date; mails: number };
  lanes: { route_id: number; worker_id: string; held: number };
  mails: MailTable;
  refusals: { route_id: number; words: string; address_key: string; newsletter_id: string; reader_id: string; at: Date };
  reports: {
    id: Generated<string>;
    kind: 'dmarc' | 'tls' | 'complaint' | 'postmaster';
    to_local: string;
    domain_id: string | null;
    received_at: Date;
    bytes: Buffer;
    handled_at: Date | null;
    fault: string | null;
    due_at: Date | null;
    unsigned: Generated<boolean>;
  };
  feedback: FeedbackTable;
  growth_notes: { id: string; newsletter_id: string; day: string; words: string; created_at: Date };
  dmarc_reports: DmarcReportTable;
  dmarc_sources: DmarcSourceTable;
  source_hosts: { ip: string; name: string | null; looked_at: Date };
  tls_reports: TlsReportTable;
  reason_days: { newsletter_id: string; domain_id: number; reason: Reason; day: string; put_off: number; ended: number };
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
    hashed: Generated<boolean>;
    reason: SuppressionReason;
    at: Date;
    detail: string | null;
    import_id: string | null;
  };
  warnings: {
    id: string;
    newsletter_id: string;
    kind: WarningKind;
    about: string;
    heading: string;
    words: string[];
    path: string;
    began_at: Date;
    ended_at: Date | null;
  };
  event_months: { month: string; put_away: string; kept: string; at: Date };
  seed_boxes: { id: string; newsletter_id: string; address: string; created_at: Date };
  seed_tests: { id: string; newsletter_id: string; letter_id: string | null; subject: string; by_name: string; at: Date };
  seed_copies: { test_id: string; address: string; mail_id: string; place: Place | null; said_at: Date | null };
  /** A view; see `day_changes`. */
  daily_counts: { newsletter_id: string; day: string; joined: number; left_count: number };
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
  held_back: {
    form_id: string;
    newsletter_id: string;
    address_key: string;
    address: string;
    reason: 'quick' | 'trap' | 'busy' | 'often';
    sent: JSONColumnType<Record<string, string>>;
    network: string;
    agent: string;
    at: Date;
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
  reader_answers: {
    reader_id: string;
    field_id: string;
    value: ColumnType<Answer, string, string>;
    folded: string | null;
    at: Date;
  };
  tags: { newsletter_id: string; name: string; created_at: Generated<Date> };
  reader_tags: { reader_id: string; newsletter_id: string; tag: string; at: Date };
  posts: PostTable;
  post_versions: {
    post_id: string;
    revision: number;
    title: string;
    subtitle: string;
    document: JSONColumnType<Document>;
    by_name: string;
    at: Date;
  };
  segments: {
    id: string;
    newsletter_id: string;
    name: string;
    condition: JSONColumnType<Condition>;
    created_at: Date;
    updated_at: Date;
  };
  cleanups: {
    id: string;
    newsletter_id: string;
    days: number;
    letter_id: string | null;
    by_name: string;
    began_at: Date;
    told_at: Date | null;
    ended_at: Date | null;
  };
  bulk_acts: BulkActTable;
  bulk_people: { act_id: string; n: number; reader_ids: string[]; changed_ids: string[] | null; changed_at: Date | null };
  warmings: { newsletter_id: string; at: Date; cold: ColumnType<ColdCounts | null, string | undefined, string | null> };
  kept_files: {
    id: string;
    newsletter_id: string;
    name: string;
    size: Generated<string>;
    made_at: Date;
    whole: Generated<boolean>;
  };
  kept_parts: { file_id: string; n: number; bytes: Buffer };
  address_changes: {
    token_hash: Buffer;
    newsletter_id: string;
    reader_id: string;
    address: string;
    address_key: string;
    sent_at: Date;
    expires_at: Date;
  };
  imports: ImportTable;
  import_rows: ImportRowTable;
  exports: ExportTable;
  restores: RestoreTable;
  segment_sizes: { segment_id: string; day: string; people: number };
  layouts: {
    id: string;
    newsletter_id: string;
    name: string;
    layout: JSONColumnType<Layout>;
    is_default: Generated<boolean>;
    updated_at: Date;
  };
  post_slugs: { newsletter_id: string; slug: string; post_id: string };
  auto_sends: AutoSendTable;
  audiences: AudienceTable;
  letters: LetterTable;
  letter_versions: LetterVersionTable;
  letter_progress: { letter_id: string; at: Date; done: number };
  letter_links: { letter_id: string; position: number; url: string; clicks: Generated<number> };
  feeds: FeedTable;
  feed_items: FeedItemTable;
  auto_send_feeds: { auto_send_id: string; feed_id: string; since: Date; begun_at: Date | null };
  rule_posts: {
    auto_send_id: string;
    item_id: string;
    state: 'before' | 'waiting' | 'held' | 'ready' | 'left out' | 'no match';
    place: number | null;
    bundle: string | null;
    ready_at: Date | null;
    filed_at: Date;
  };
  rule_lanes: { auto_send_id: string; lane: Lane; upto: Generated<number>; next_at: Date | null; skipped_at: Date | null };
  rule_runs: {
    id: string;
    auto_send_id: string;
    lane: Lane;
    at: Date;
    upto: number;
    state: 'draft' | 'going' | 'done' | 'nothing' | 'skipped' | 'dropped';
    words: Generated<string>;
    approve_by: Date | null;
    grouped: Generated<boolean>;
  };
  letter_posts: { letter_id: string; auto_send_id: string; item_id: string; place: number };
  reader_rhythms: {
    auto_send_id: string;
    reader_id: string;
    newsletter_id: string;
    lane: Lane;
    since: number | null;
    joins: string | null;
    chosen_at: Date;
  };
  letter_counts: { letter_id: string; newsletter_id: string } & LetterCounts;
  letter_domain_counts: { letter_id: string; newsletter_id: string; domain_id: number } & LetterCounts;
  letter_changes: { letter_id: string; newsletter_id: string; domain_id: number } & Partial<LetterCounts>;
  letter_sums: { letter_id: string; newsletter_id: string; domain_id: number } & { [K in keyof LetterCounts]: Generated<number> };
  people_totals: {
    newsletter_id: string;
    kind: 'all' | 'list' | 'tag' | 'source' | 'form' | 'warmth';
    key: string;
  } & PeopleCounts;
  source_parts: {
    newsletter_id: string;
    day: string;
    dimension: string;
    name: string;
    asked: number;
    confirmed: number;
    reading: number;
  };
  route_jobs: {
    route_id: number;
    letter_id: string;
    newsletter_id: string;
    sent_on: string;
    next_due: Date;
    turn: Generated<number>;
    resting: Generated<boolean>;
  };
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
  removed_at: Date | null;
  count_opens: Generated<boolean>;
  count_clicks: Generated<boolean>;
  site: Generated<string>;
  social_links: ColumnType<SocialLink[], string | undefined, string>;
  alert_joins: Generated<AlertWhen>;
  alert_leaves: Generated<AlertWhen>;
  alerts_due_at: Date | null;
  hash_key: Buffer | null;
  recounted_at: Date | null;
  default_sender_id: string | null;
  encrypted_only: Generated<boolean>;
  coming: Generated<boolean>;
  closing_at: Date | null;
  call_back_seconds: Generated<number>;
  calendar_open: Generated<boolean>;
  calendar_turn: Generated<number>;
  reader_goal: number | null;
  weekly_summary: Generated<boolean>;
  tell_unusual: Generated<boolean>;
  summary_due_at: Date | null;
  watched_at: Date | null;
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
  ramp_counted_at: Date | null;
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
  own_mail_id: string | null;
  probe_mail_id: string | null;
  verdicts: ColumnType<MailVerdict[] | null, string | null | undefined, string | null>;
  answered_at: Date | null;
};

type RouteTable = {
  id: Generated<number>;
  kind: 'hosts' | 'relay';
  newsletter_id: string | null;
  name: string;
  hosts: ColumnType<RouteHost[], string | undefined, string>;
  domain: string | null;
  verified: Generated<boolean>;
  look_at: Generated<Date>;
  lanes: Generated<number>;
  lanes_most: number | null;
  failed_rounds: Generated<number>;
  failing_since: Date | null;
  proven_at: Date | null;
  paused_until: Date | null;
  paused_for: string | null;
  filled_until: Date | null;
  mails_a_line: number | null;
  per_minute: number | null;
  served_at: Generated<Date>;
  due_at: Date | null;
};
/** A mail host as it was last looked up. */
/** What a domain demands of whoever brings it mail (RFC 8461), as it was last read, and until when that holds. */
export type KeptPolicy = Omit<StsPolicy, 'maxAgeSeconds'> & { id: string; until: string };
export type RouteHost = { host: string; rank: number; addresses: string[] };

type MailDomainTable = {
  id: Generated<number>;
  name: string;
  route_id: number | null;
  state: Generated<'new' | 'fine' | 'unanswered' | 'gone' | 'no mail'>;
  said: string | null;
  look_at: Generated<Date>;
  failing_since: Date | null;
  tries: Generated<number>;
  policy: ColumnType<KeptPolicy | null, string | null | undefined, string | null>;
  wanted: Generated<number>;
};

/** What a single mail says: a notice, made into HTML and text when it leaves, or a letter that was rendered already; nothing once it has come to an end. */
export type MailContent =
  | { kind: 'notice'; notice: Notice }
  | { kind: 'rendered'; html: string; text: string }
  | { kind: 'gone' };
type MailTable = {
  id: Generated<string>;
  newsletter_id: string | null;
  reader_id: string | null;
  kind: string;
  waited_for: boolean;
  from_name: string;
  from_address: string;
  reply_to: string | null;
  return_local: string | null;
  to_address: string;
  domain_id: Generated<number>;
  route_id: number | null;
  subject: string;
  content: JSONColumnType<MailContent>;
  leave: Generated<boolean>;
  state: Generated<'queued' | 'claimed' | 'delivered' | 'bounced' | 'refused' | 'given up' | 'aside' | 'cancelled'>;
  attempts: Generated<number>;
  faults: Generated<number>;
  claimed_by: string | null;
  due_at: Date;
  created_at: Date;
  left_at: Date | null;
  delivered_at: Date | null;
  response: string | null;
};

type ListTable = {
  id: string;
  newsletter_id: string;
  name: string;
  public_name: string;
  description: Generated<string>;
  public: Generated<boolean>;
  double_opt_in: Generated<boolean>;
  position: Generated<number>;
  archived_at: Date | null;
  created_at: Date;
  welcome: ColumnType<ListWelcome | null, string | null | undefined, string | null>;
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
  domain_id: Generated<number>;
  first_name: string | null;
  name_key: string | null;
  address_state: Generated<'fine' | 'bouncing' | 'unreachable' | 'suppressed'>;
  soft_evidence: Generated<number>;
  soft_at: Date | null;
  lists_reading: Generated<number>;
  lists_waiting: Generated<number>;
  lists_left: Generated<number>;
  standing: Generated<'reading' | 'waiting' | 'left' | 'unreachable' | 'none'>;
  confirmed: Generated<boolean>;
  last_sent_at: Date | null;
  last_read_at: Date | null;
  last_clicked_at: Date | null;
  letters_got: Generated<number>;
  recent_read: Generated<string>;
  recent_clicked: Generated<string>;
  recent_hidden: Generated<string>;
  warmth: Generated<number>;
  warmth_at: Date | null;
  zone: string | null;
  paused_until: Date | null;
  text_alone: Generated<boolean>;
  note: Generated<string>;
  created_on: Generated<string>;
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
  source_import_id: string | null;
};

type ConsentTable = {
  id: Generated<string>;
  newsletter_id: string;
  reader_id: string;
  list_id: string | null;
  list_name: string | null;
  act: ConsentAct;
  state: string;
  at: Date;
  actor: ConsentActor;
  actor_name: string | null;
  form_id: string | null;
  page: string | null;
  referrer: string | null;
  wording: string | null;
  network: string | null;
  agent: string | null;
};

type BulkActTable = {
  id: string;
  newsletter_id: string;
  act: BulkAct;
  what: JSONColumnType<BulkWhat>;
  whom: JSONColumnType<Whom>;
  by_name: string;
  state: Generated<BulkState>;
  cause: string | null;
  people: number | null;
  done: Generated<number>;
  changed: Generated<number>;
  portions: Generated<number>;
  began_at: Date;
  ended_at: Date | null;
};

type ImportTable = {
  id: string;
  newsletter_id: string;
  name: string;
  file_id: string | null;
  state: Generated<ImportState>;
  cause: string | null;
  dialect: JSONColumnType<Dialect>;
  columns: JSONColumnType<Matched & { dates: DateOrder | 'unclear' | null }>;
  plan: ColumnType<{ plan: ImportPlan; consent: Agreement | null } | null, string | null | undefined, string | null>;
  found: ColumnType<Found | null, string | null | undefined, string | null>;
  read_bytes: Generated<string>;
  upto: Generated<number>;
  result: ColumnType<Partial<Record<RowKind, number>>, string | undefined, string>;
  by_name: string;
  began_at: Date;
  brought_at: Date | null;
  ended_at: Date | null;
};

export type ExportTable = {
  id: string;
  newsletter_id: string;
  kind: ExportKind;
  columns: JSONColumnType<ExportColumn[]>;
  whom: JSONColumnType<Whom>;
  state: Generated<ExportState>;
  cause: string | null;
  file_id: string | null;
  people: number;
  done: Generated<number>;
  parts: Generated<number>;
  upto: string | null;
  by_name: string;
  by_email: string;
  began_at: Date;
  ended_at: Date | null;
};

export type RestoreTable = {
  id: string;
  user_id: string;
  newsletter_id: string | null;
  file_id: string | null;
  whole: JSONColumnType<WholeNewsletter>;
  state: Generated<'asking' | 'bringing' | 'done' | 'failed'>;
  cause: string | null;
  sheet: Generated<number>;
  line: Generated<number>;
  done: Generated<number>;
  by_email: string;
  began_at: Date;
  ended_at: Date | null;
};

type ImportRowTable = {
  import_id: string;
  row: number;
  kind: RowKind;
  why: string | null;
  cells: string[] | null;
  reader_id: string | null;
  address: string | null;
  address_key: string | null;
  domain: string | null;
  first_name: string | null;
  name_key: string | null;
  state: FileState | null;
  agreed_at: Date | null;
  tags: string[] | null;
  /** Each with its text as it is looked for. */
  answers: Record<string, [Answer, string | null]> | null;
  note: string | null;
  language: string | null;
  zone: string | null;
  at: Date | null;
  named: Generated<boolean>;
};

export type FeedTable = {
  id: string;
  newsletter_id: string;
  url: string | null;
  title: string;
  etag: string | null;
  last_modified: string | null;
  read_at: Date | null;
  next_poll_at: Date | null;
  claimed_at: Date | null;
  told_new_at: Date | null;
  polled_at: Date | null;
  failures: Generated<number>;
  fault: string | null;
  cut: Generated<boolean>;
  failing_since: Date | null;
  told_at: Date | null;
  emptied_at: Date | null;
  quiet_told_at: Date | null;
  hub: string | null;
  topic: string | null;
  hub_token: string | null;
  hub_until: Date | null;
  hub_asked_at: Date | null;
  created_at: Date;
};

export type FeedItemTable = {
  id: string;
  feed_id: string;
  item_key: string;
  title: string;
  link: string;
  author: Generated<string>;
  topics: Generated<string[]>;
  summary: Generated<string>;
  document: ColumnType<Document | null, string | null | undefined, string | null>;
  picture: string | null;
  pictures: ColumnType<Record<string, string>, string | undefined, string>;
  words: Generated<string>;
  source: string;
  print: string | null;
  published_at: Date | null;
  first_seen_at: Date;
  changed_at: Date;
  gone_at: Date | null;
  place: Generated<string>;
};

export type AutoSendTable = {
  id: string;
  newsletter_id: string;
  name: string;
  settings: JSONColumnType<RuleSettings>;
  audience: JSONColumnType<Audience>;
  sender_id: string;
  layout_id: string;
  intro: Generated<string>;
  switched_on_at: Date | null;
  paused_at: Date | null;
  created_at: Date;
};

type PostTable = {
  id: string;
  newsletter_id: string;
  slug: string;
  title: string;
  subtitle: Generated<string>;
  document: JSONColumnType<Document>;
  revision: Generated<number>;
  link: string | null;
  picture: string | null;
  created_at: Date;
  updated_at: Date;
  writer_key: string | null;
  writer_name: string | null;
  writer_until: Date | null;
  goes: Generated<'both' | 'letter' | 'page'>;
  audience: Generated<'everybody' | 'readers'>;
  topics: Generated<string[]>;
  picture_alt: Generated<string>;
  description: Generated<string>;
  canonical: string | null;
  author: Generated<string>;
  guest: Generated<string>;
  published_at: Date | null;
};

export type LetterTable = {
  id: string;
  newsletter_id: string;
  kind: 'post' | 'digest' | 'series' | 'proof';
  post_id: string | null;
  auto_send_id: string | null;
  layout_id: string | null;
  audience: JSONColumnType<Audience>;
  sender_id: string | null;
  subject: string;
  counts_opens: Generated<boolean>;
  counts_clicks: Generated<boolean>;
  preview_line: string;
  state: LetterState;
  cause: string | null;
  state_at: Date;
  due_at: Date;
  started_at: Date | null;
  finished_at: Date | null;
  sent_on: string | null;
  html: string | null;
  text: string | null;
  chips: ColumnType<{ field: string; fallback: string }[], string | undefined, string>;
  from_name: string | null;
  from_address: string | null;
  reply_to: string | null;
  domain_id: string | null;
  created_at: Date;
  own_subject: Generated<boolean>;
  own_preview: Generated<boolean>;
  archived_at: Date | null;
  own_text: string | null;
  own_text_of: string | null;
  departure: JSONColumnType<Departure> | null;
  again_of: string | null;
  test: ColumnType<LetterTest | null, string | null | undefined, string | null>;
  decide_at: Date | null;
  verdict: ColumnType<KeptVerdict | null, string | null | undefined, string | null>;
  winner: number | null;
  first_copy: string | null;
  last_copy: string | null;
  last_due_at: Date | null;
  told_causes: Generated<string[]>;
  figures: ColumnType<LetterFigures | null, string | null | undefined, string | null>;
  figures_at: Date | null;
  figures_ms: Generated<number>;
  run_id: string | null;
  lane: Lane | null;
  joining: Generated<boolean>;
};
/** What came of a test, by what figures, and who chose; nobody where it was decided by itself. */
export type KeptVerdict = TestVerdict & { arms: Arm[]; at: string; by: string | null };

export type LetterVersionTable = {
  letter_id: string;
  n: number;
  subject: Generated<string>;
  sender_id: string | null;
  beginning: Generated<string>;
  from_name: string | null;
  from_address: string | null;
  reply_to: string | null;
  html: string | null;
  text: string | null;
};

type AudienceTable = {
  id: string;
  newsletter_id: string;
  name: string;
  audience: JSONColumnType<Audience>;
  created_at: Date;
};

/** What became of a letter, in copies. */
export type LetterCounts = {
  recipients: number;
  delivered: number;
  bounced: number;
  refused: number;
  given_up: number;
  cancelled: number;
  opened_people: number;
  opened_machines: number;
  clicked: number;
  left_count: number;
  complained: number;
  /** Opened by a machine and by nobody else. */
  hidden: number;
};
/** How many people stand where. `reading` are those whose address can be reached; of the others `unreachable`. */
export type PeopleCounts = { reading: number; waiting: number; left_count: number; unreachable: number };

type DeliveryTable = {
  id: Generated<string>;
  sent_on: string;
  newsletter_id: string;
  letter_id: string;
  reader_id: string;
  address: string;
  domain_id: number;
  route_id: number | null;
  variant: Generated<number>;
  chips: ColumnType<Record<string, string> | null, string | null | undefined, string | null>;
  state: Generated<'kept' | 'queued' | 'claimed' | 'delivered' | 'bounced' | 'refused' | 'given up' | 'cancelled'>;
  due_at: Date;
  attempts: Generated<number>;
  faults: Generated<number>;
  claimed_by: string | null;
  tried_at: Date | null;
  delivered_at: Date | null;
  opened_at: Date | null;
  opened_by_machine_at: Date | null;
  clicked_at: Date | null;
  left_at: Date | null;
  response: string | null;
  reason: Reason | null;
};

/** What readers and providers report of letters. */
type FeedbackTable = {
  id: Generated<string>;
  newsletter_id: string | null;
  letter_id: string | null;
  sent_on: string | null;
  delivery_id: string | null;
  reader_id: string | null;
  kind: FeedbackKind;
  type: string;
  reporter: string;
  known_by: 'return path' | 'message' | 'letter' | 'nothing';
  failure: Generated<string>;
  source: Generated<string>;
  at: Date;
};

type DmarcReportTable = {
  id: Generated<string>;
  domain_id: string;
  reporter: string;
  report_id: string;
  signed_by: Generated<string>;
  from_at: Date;
  to_at: Date;
  policy: JSONColumnType<PublishedPolicy>;
  mails: number;
  aligned: number;
  received_at: Date;
};
type DmarcSourceTable = Omit<DmarcSource, 'detail'> & { report: string; n: number; detail: JSONColumnType<SourceDetail> };
type TlsReportTable = {
  id: Generated<string>;
  domain_id: string;
  reporter: string;
  report_id: string;
  signed_by: Generated<string>;
  from_at: Date;
  to_at: Date;
  good: number;
  failed: number;
  failures: JSONColumnType<TlsFailure[]>;
  received_at: Date;
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
  why: MachineReason | null;
};
