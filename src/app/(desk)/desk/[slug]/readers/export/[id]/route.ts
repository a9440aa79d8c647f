import { asFault, Fault } from '@/core/faults';
import { may } from '@/core/newsletters/roles';
import { exportFile } from '@/server/transfer/exports';
import { deskOf } from '../../../../../../desk';

/** A file that was made of readers or of the whole newsletter, whole or from one of its bytes on (RFC 9110 section 14.2), so that what broke off can go on. */
export async function GET(request: Request, { params }: { params: Promise<{ slug: string; id: string }> }): Promise<Response> {
  const { slug, id } = await params;
  const { ctx, newsletter } = await deskOf(slug);
  try {
    if (!may(newsletter.role, 'edit')) throw new Fault('forbidden', 'You may not take readers out of this newsletter.');
    const range = /^bytes=(\d{1,15})-$/.exec(request.headers.get('range') ?? '');
    const from = range ? Number(range[1]) : 0;
    const { kind, name, type, size, bytes } = await exportFile(ctx, newsletter, id, from);
    if (kind === 'newsletter' && !may(newsletter.role, 'own'))
      throw new Fault('forbidden', 'Only an owner may take the whole newsletter out.');
    const headers: Record<string, string> = {
      'content-type': type,
      'content-disposition': `attachment; filename*=UTF-8''${encodeURIComponent(name)}`,
      'cache-control': 'no-store',
      'accept-ranges': 'bytes',
      // The file never changes, so whoever goes on can tell that it is the same.
      etag: `"${id}"`,
    };
    if (from >= size && size > 0)
      return new Response(null, { status: 416, headers: { ...headers, 'content-range': `bytes */${size}` } });
    headers['content-length'] = String(size - from);
    if (range) headers['content-range'] = `bytes ${from}-${size - 1}/${size}`;
    const body = new ReadableStream<Uint8Array>({
      async pull(controller) {
        const { value, done } = await bytes.next();
        if (done) controller.close();
        else controller.enqueue(value);
      },
      async cancel() {
        await bytes.return(undefined);
      },
    });
    return new Response(body, { status: range ? 206 : 200, headers });
  } catch (error) {
    const fault = asFault(error);
    return new Response(fault.sentence, { status: fault.status, headers: { 'content-type': 'text/plain; charset=utf-8' } });
  }
}
