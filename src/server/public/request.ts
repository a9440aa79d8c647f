import { Fault } from '@/core/faults';
import type { Visitor } from '../readers/wish';

export type PublicHandler = (request: Request) => Promise<Response>;

/** The most a public form may send. */
export const MOST_BYTES = 64_000;

/** Who asks. Behind a proxy the last hop's word counts, which is why edge and web are reached through one that sets it. */
export function visitorOf(request: Request): Visitor {
  const forwarded = request.headers.get('x-forwarded-for')?.split(',').at(-1)?.trim();
  return { network: forwarded || 'unknown', agent: request.headers.get('user-agent') ?? '' };
}

/** Text as PostgreSQL can keep it: without NUL, and without halves of characters. */
const storable = (text: string) =>
  text.replace(/\u0000/g, '').replace(/[\ud800-\udbff](?![\udc00-\udfff])|(?<![\ud800-\udbff])[\udc00-\udfff]/g, '\ufffd');

/** Several values of one name come one a line: that is how several choices are sent. */
function flat(entries: Iterable<[string, unknown]>): Record<string, string> {
  const out: Record<string, string> = {};
  for (const [name, value] of entries) {
    if (typeof value !== 'string') continue;
    const text = storable(value);
    out[name] = Object.hasOwn(out, name) ? `${out[name]}\n${text}` : text;
  }
  return out;
}

const asText = (value: unknown): unknown => {
  if (Array.isArray(value)) return value.filter((one) => typeof one === 'string').join('\n');
  return typeof value === 'number' || typeof value === 'boolean' ? String(value) : value;
};

/** A body as flat text fields: urlencoded, multipart or JSON (a list of texts for several choices). Throws "invalid" for anything else, or for too much of it. */
export async function readFields(request: Request): Promise<Record<string, string>> {
  const body = await readBounded(request);
  const type = (request.headers.get('content-type') ?? '').split(';')[0]?.trim().toLowerCase();
  if (type === 'application/x-www-form-urlencoded') return flat(new URLSearchParams(body.toString('utf8')));
  if (type === 'application/json') {
    let value: unknown;
    try {
      value = JSON.parse(body.toString('utf8'));
    } catch {
      throw new Fault('invalid', 'This is not JSON.');
    }
    if (typeof value !== 'object' || value === null || Array.isArray(value))
      throw new Fault('invalid', 'An object with the form’s fields is wanted.');
    return flat(Object.entries(value).map(([name, entry]): [string, unknown] => [name, asText(entry)]));
  }
  if (type === 'multipart/form-data') {
    const form = await new Response(new Uint8Array(body), { headers: { 'content-type': request.headers.get('content-type')! } })
      .formData()
      .catch(() => null);
    if (!form) throw new Fault('invalid', 'This could not be read.');
    return flat(form.entries());
  }
  throw new Fault('invalid', 'Send the form as application/x-www-form-urlencoded, multipart/form-data or application/json.');
}

async function readBounded(request: Request): Promise<Buffer> {
  const tooMuch = () => new Fault('invalid', 'This is more than a form can hold.');
  if (Number(request.headers.get('content-length') ?? 0) > MOST_BYTES) throw tooMuch();
  const chunks: Uint8Array[] = [];
  let size = 0;
  for await (const chunk of (request.body ?? []) as unknown as AsyncIterable<Uint8Array>) {
    size += chunk.length;
    if (size > MOST_BYTES) throw tooMuch();
    chunks.push(chunk);
  }
  return Buffer.concat(chunks);
}
