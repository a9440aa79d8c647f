import { createHash } from 'node:crypto';
import { createServer, type Server } from 'node:http';

/** A blog in this process whose posts and manners the tests set. */
export class Blog {
  posts: { guid: string; title: string; at: Date; words?: string; topic?: string; link?: string }[] = [];
  answer: 'feed' | 'away' | 'broken' | 'cut' | 'page' | 'gone' | 'busy' | 'moved' | 'moved for now' | 'silent' = 'feed';
  retryAfter = '';
  /** What stands at its other addresses. */
  pages: Record<string, { type: string; body: string | Buffer }> = {};
  /** What happens while it is asked for its feed. */
  meanwhile: (() => Promise<unknown>) | null = null;
  /** What happens once it has answered. */
  afterwards: (() => unknown) | null = null;
  /** Where its hub is, if it has one. */
  hub = '';
  /** What its hub was asked, as long as it stands in this process too. */
  wishes: URLSearchParams[] = [];
  asked = 0;
  unchanged = 0;
  origin = '';
  #server: Server | null = null;
  async open(): Promise<this> {
    this.#server = createServer(async (request, response) => {
      const page = this.pages[request.url ?? ''];
      if (page) return void response.writeHead(200, { 'content-type': page.type }).end(page.body);
      if (request.url === '/hub') {
        let body = '';
        request.on('data', (chunk) => {
          body += chunk;
        });
        request.on('end', () => {
          this.wishes.push(new URLSearchParams(body));
          response.writeHead(202).end();
        });
        return;
      }
      this.asked += 1;
      await this.meanwhile?.();
      const etag = `"${createHash('sha256').update(JSON.stringify(this.posts)).digest('hex').slice(0, 16)}"`;
      if (this.answer === 'silent') return;
      if (this.answer === 'away')
        return void response.writeHead(503, this.retryAfter ? { 'retry-after': this.retryAfter } : {}).end();
      if (this.answer === 'busy') return void response.writeHead(429, { 'retry-after': this.retryAfter }).end();
      if (this.answer === 'gone') return void response.writeHead(410).end();
      if (this.answer.startsWith('moved') && request.url !== '/new.xml')
        return void response.writeHead(this.answer === 'moved' ? 301 : 302, { location: '/new.xml' }).end();
      if (this.answer === 'page') return void response.end('<!doctype html><html></html>');
      if (this.answer === 'feed' && request.headers['if-none-match'] === etag) {
        this.unchanged += 1;
        return void response.writeHead(304).end();
      }
      const items = [...this.posts]
        .reverse()
        .map(
          (post) =>
            `<item><title>${post.title}</title><guid>${post.guid}</guid><link>/${post.link ?? post.guid}</link><pubDate>${post.at.toUTCString()}</pubDate>${post.topic ? `<category>${post.topic}</category>` : ''}<description>${post.words ?? `Words of ${post.title}`}</description></item>`,
        );
      const body = `<rss version="2.0" xmlns:atom="http://www.w3.org/2005/Atom"><channel><title>Lanternfish</title>${this.hub ? `<atom:link rel="hub" href="${this.hub}"/>` : ''}${items.join('')}</channel></rss>`;
      // In the middle of its first post, or of its last.
      const end =
        this.answer === 'broken' ? body.indexOf('<item>') + 10 : this.answer === 'cut' ? body.lastIndexOf('<guid>') : undefined;
      response.writeHead(200, { etag }).end(body.slice(0, end));
      this.afterwards?.();
      this.afterwards = null;
    });
    await new Promise<void>((resolve) => this.#server!.listen(0, '127.0.0.1', resolve));
    this.origin = `http://127.0.0.1:${(this.#server.address() as { port: number }).port}`;
    return this;
  }
  close(): void {
    this.#server?.closeAllConnections();
    this.#server?.close();
  }
}
