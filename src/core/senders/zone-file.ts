import { TTL_SECONDS, type WantedRecord } from './records';

/** A character string of at most 255 octets (RFC 1035 3.3), quoted for a master file. */
function quoted(value: string): string {
  const parts = value.match(/.{1,255}/gs) ?? [''];
  return parts.map((part) => `"${part.replace(/(["\\])/g, '\\$1')}"`).join(' ');
}

type Line = Pick<WantedRecord, 'type' | 'name'> & { paste: string };
const toPublish = (records: (WantedRecord & { judgement?: { paste: string } | null })[]): Line[] =>
  records
    .filter((record) => record.value)
    .map((record) => ({ type: record.type, name: record.name, paste: record.judgement?.paste ?? record.value }));

/** The records as a master file (RFC 1035 section 5), to be pasted or uploaded at a DNS host. */
export function zoneFile(domain: string, records: (WantedRecord & { judgement?: { paste: string } | null })[]): string {
  const lines = toPublish(records).map(
    (line) =>
      `${line.name}.\tIN\t${line.type}\t${line.type === 'TXT' ? quoted(line.paste) : `${line.paste.replace(/\.$/, '')}.`}`,
  );
  return [`$ORIGIN ${domain}.`, `$TTL ${TTL_SECONDS}`, ...lines, ''].join('\n');
}

/** The whole set as one text for whoever looks after the DNS: plain words, every record with its host and value. */
export function recordsAsText(
  domain: string,
  newsletter: string,
  records: (WantedRecord & { judgement?: { paste: string } | null })[],
): string {
  const parts = records
    .filter((record) => record.value)
    .map((record, n) =>
      [
        `${n + 1}. ${record.title} (${record.explains})`,
        `   Type:  ${record.type}`,
        `   Host:  ${record.host}   (in full: ${record.name})`,
        `   Value: ${record.judgement?.paste ?? record.value}`,
        `   TTL:   ${TTL_SECONDS}`,
      ].join('\n'),
    );
  return [
    `Please add these DNS records for ${domain}, so that the letters of ${newsletter} are signed and believed.`,
    'If a record of the same kind stands at a host already, replace it; do not add a second one.',
    ...parts,
    'Long values may be pasted whole; if your DNS host refuses more than 255 characters, use the zone file instead.',
  ].join('\n\n');
}
