import type { WantedRecord } from './records';

/** A character string of at most 255 octets (RFC 1035 3.3), quoted for a master file. */
function quoted(value: string): string {
  const parts = value.match(/.{1,255}/gs) ?? [''];
  return parts.map((part) => `"${part.replace(/(["\\])/g, '\\$1')}"`).join(' ');
}

/** The records as a master file (RFC 1035 section 5), to be pasted or uploaded at a DNS host. */
export function zoneFile(domain: string, records: WantedRecord[], ttlSeconds = 3600): string {
  const lines = records.map(
    (record) => `${record.host}\tIN\t${record.type}\t${record.type === 'TXT' ? quoted(record.value) : `${record.value}.`}`,
  );
  return [`$ORIGIN ${domain}.`, `$TTL ${ttlSeconds}`, ...lines, ''].join('\n');
}
