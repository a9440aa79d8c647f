import { Fault } from '@/core/faults';
import { whole } from '@/core/writing/slots';
import type { Visitor } from '../readers/visitor';

/** What the public paths look at in a request. A shape of our own, because making a web Request costs more than a form does. */
export type PublicRequest = {
  method: string;
  url: URL;
  headers: { get: (name: string) => string | null };
  /** The address that asks, as `core/network` has it; '' where it is not known. */
  client: string;
  /** The whole body, or more than MOST_BYTES of it if it is longer. */
  body: () => Promise<Buffer>;
};
export type PublicAnswer = { status: number; headers: Record<string, string>; body: string | Buffer };
export type PublicPaths = (request: PublicRequest) => Promise<PublicAnswer>;
export type PublicHandler = (request: Request) => Promise<Response>;

/** The most a public form may send. */
export const MOST_BYTES = 64_000;

export const answer = (
  body: string | Buffer,
  { status = 200, headers }: { status?: number; headers: Record<string, string> },
): PublicAnswer => ({ status, headers, body });

/** A body, or as much of it as shows that it is too long. */
async function readUpTo(chunks: AsyncIterable<Uint8Array>): Promise<Buffer> {
  const kept: Uint8Array[] = [];
  let size = 0;
  for await (const chunk of chunks) {
    kept.push(chunk);
    size += chunk.length;
    if (size > MOST_BYTES) break;
  }
  return Buffer.concat(kept);
}

/** The public paths for whoever speaks in web requests, as Next does behind our web process, which says who asks in one header. */
export function overFetch(paths: PublicPaths): PublicHandler {
  return async (request) => {
    const { method, url, headers, body } = request;
    const { status, ...answered } = await paths({
      method,
      url: new URL(url),
      headers,
      client: headers.get('x-forwarded-for') ?? '',
      body: () => readUpTo((body ?? []) as unknown as AsyncIterable<Uint8Array>),
    });
    const bytes = typeof answered.body === 'string' ? answered.body : new Uint8Array(answered.body);
    // These have no body (RFC 9110 section 8.6), and a web Response refuses even an empty one.
    return new Response(status === 204 || status === 304 ? null : bytes, { status, headers: answered.headers });
  };
}

export const visitorOf = (request: PublicRequest): Visitor => ({
  network: request.client || 'unknown',
  agent: request.headers.get('user-agent') ?? '',
});

/** Text as PostgreSQL can keep it: without NUL, and without halves of characters. */
const storable = (text: string) => whole(text.replace(/\u0000/g, ''));

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
export async function readFields(request: PublicRequest): Promise<Record<string, string>> {
  const tooMuch = () => new Fault('invalid', 'This is more than a form can hold.');
  if (Number(request.headers.get('content-length') ?? 0) > MOST_BYTES) throw tooMuch();
  const body = await request.body();
  if (body.length > MOST_BYTES) throw tooMuch();
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
