import type { PolicyStep, PublishedPolicy, SourceDetail, SourceKind } from './dmarc-report';
import type { TlsFailure } from './tls-report';

/* What screens say of reports. */

/** What became of one report that was brought. */
export type ReportRead = { kind: 'dmarc' | 'tls'; reporter: string; domain: string; mails: number; again: boolean };

export type KindSum = { kind: SourceKind; mails: number; aligned: number; quarantined: number; rejected: number };
export type SourceView = {
  ip: string | null;
  host: string | null;
  kind: SourceKind;
  who: string;
  mails: number;
  aligned: number;
  stopped: number;
  detail: SourceDetail;
};
export type DomainReports = {
  /** What its reporters last found published. */
  policy: PublishedPolicy | null;
  kinds: KindSum[];
  /** Mail of each day: believed, not believed though it is the writer's (or was forwarded), and strangers'. */
  days: { day: string; believed: number; doubted: number; strangers: number }[];
  sources: SourceView[];
  /** Sources beyond those shown. */
  more: number;
  /** By whose signature, or else as the report itself says. */
  reporters: { name: string; reports: number; mails: number; last: Date }[];
  step: PolicyStep | null;
  /** Reports that could not be read; and those that wait until somebody says that they count, since no signature shows whose they are. */
  unread: { id: string; at: Date; fault: string; unsigned: boolean }[];
  tls: { good: number; failed: number; failures: TlsFailure[]; reports: number };
};

/** So many days of reports are shown together. */
export const REPORTED_DAYS = 30;
