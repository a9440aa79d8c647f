import { createPrivateKey, createPublicKey, generateKeyPairSync } from 'node:crypto';
import { dkimSign } from 'mailauth/lib/dkim/sign';
import { place, portOf, readJson, writeFileWhole } from '../shell/world';

const SELECTOR = 'daily';
const file = place('mail', 'signing.json');

/** The key of the providers of this world, made once (Ed25519, RFC 8463). */
function key(): string {
  const kept = readJson<{ key: string }>(file, { key: '' }).key;
  if (kept) return kept;
  const made = generateKeyPairSync('ed25519').privateKey.export({ type: 'pkcs8', format: 'pem' }).toString();
  writeFileWhole(file, JSON.stringify({ key: made }));
  return made;
}

const post = (path: string, fields: Record<string, string>) =>
  fetch(`http://127.0.0.1:${portOf('BACKLOT_DNS_PAGE_PORT')}${path}`, {
    method: 'POST',
    body: new URLSearchParams(fields),
    redirect: 'manual',
  });

/** A provider's mail with its signature (DKIM, RFC 6376); its key stands in its zone, as everybody's does. */
export async function signed(provider: string, raw: string): Promise<string> {
  const privateKey = key();
  // Of a public key of this kind the last 32 bytes are the key itself.
  const spki = createPublicKey(createPrivateKey(privateKey)).export({ type: 'spki', format: 'der' });
  await post('/zones', { domain: provider });
  await post(`/zones/${provider}/import`, {
    text: `${SELECTOR}._domainkey IN TXT "v=DKIM1; k=ed25519; p=${spki.subarray(-32).toString('base64')}"\n`,
    how: 'add',
  });
  const own = { signingDomain: provider, selector: SELECTOR, privateKey };
  // Its types know of one signature alone, and what it does of a list.
  const how = { ...own, canonicalization: 'relaxed/relaxed', algorithm: 'ed25519-sha256', signatureData: [own] };
  const { signatures, errors } = await dkimSign(Buffer.from(raw), how);
  if (errors.length) throw new Error(`A report of ${provider} could not be signed.`, { cause: errors[0] });
  return signatures + raw;
}
