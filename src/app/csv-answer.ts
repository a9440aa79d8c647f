/** Rows of a CSV (RFC 4180) as they come, each piece when the last one was taken, so that a file of any length needs no room. */
export function csvAnswer(rows: AsyncGenerator<string>, name: string): Response {
  const body = new ReadableStream<Uint8Array>({
    async pull(controller) {
      const { value, done } = await rows.next();
      if (done) controller.close();
      else controller.enqueue(new TextEncoder().encode(value));
    },
    async cancel() {
      await rows.return(undefined);
    },
  });
  return new Response(body, {
    headers: {
      'content-type': 'text/csv; charset=utf-8',
      'content-disposition': `attachment; filename*=UTF-8''${encodeURIComponent(name)}`,
      'cache-control': 'no-store',
    },
  });
}
