/*
 * What is known of programs that fetch pictures and follow links on nobody's behalf, or on everybody's: by the names they give themselves, and by the
 * networks they come from. A plain table, dated, that whoever runs an installation may add to.
 */
export const MACHINES = {
  asOf: '2026-11-27',
  /** Words in the name that a program gives itself. */
  agents: [
    'bot\\b',
    'crawl',
    'spider',
    'scan',
    'proxy',
    'preview',
    'prefetch',
    'fetcher',
    'monitor',
    'headless',
    'curl',
    'wget',
    'python',
    'java/',
    'go-http',
    'node',
    'okhttp',
    'gateway',
    'protect',
    'safelink',
    'sandbox',
  ],
  /** Networks from which mailboxes have pictures fetched for all their readers, and from which mail is looked through. */
  networks: ['198.51.100.128/25', '2001:db8:feed::/48'],
} as const;
