import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { type Document, every, inlineOf, type Node, run } from '../writing/document';
import { compose, type DigestPost, MOST_WEIGHT, withMarks } from './digest';

const paragraph = (text: string, href?: string): Node => ({ kind: 'paragraph', inline: run(text, href) });
const post = (title: string, nodes: Node[] = [paragraph(`Words of ${title}`)], more: Partial<DigestPost> = {}): DigestPost => ({
  title,
  link: `https://lanternfish.example/${title.toLowerCase()}`,
  summary: `About ${title}`,
  author: '',
  day: '26 November 2026',
  picture: null,
  document: { version: 1, nodes },
  ...more,
});
const WAY = { holds: 'whole', invitation: '', campaign: '', intro: '', readOn: 'Read on' } as const;
const said = ({ nodes }: Document) =>
  [...every(nodes)].map((node) =>
    'text' in node
      ? node.text
      : inlineOf(node)
          .map((one) => (one.kind === 'text' ? one.text : ''))
          .join(''),
  );
const links = ({ nodes }: Document) =>
  [...every(nodes)].flatMap((node) => inlineOf(node).flatMap((one) => (one.kind === 'text' && one.href ? [one.href] : [])));

describe('a letter of posts', () => {
  it('of one is that post itself', () => {
    const made = compose(
      [post('Eels', [paragraph('One')], { picture: 'https://lanternfish.example/p.png', author: 'Mara' })],
      'Eels',
      WAY,
    );
    expect(made).toEqual({
      title: 'Eels',
      summary: 'About Eels',
      link: 'https://lanternfish.example/eels',
      picture: 'https://lanternfish.example/p.png',
      author: 'Mara',
      document: { version: 1, nodes: [paragraph('One')] },
    });
  });
  it('of several has each with its title, who wrote it and when, and a line between them', () => {
    const made = compose([post('Eels', undefined, { author: 'Mara' }), post('Owls')], 'Eels and 1 more', WAY);
    expect(made.title).toBe('Eels and 1 more');
    expect(made.document.nodes.map((node) => node.kind)).toEqual([
      'heading',
      'byline',
      'paragraph',
      'divider',
      'heading',
      'byline',
      'paragraph',
    ]);
    expect(said(made.document)).toEqual([
      'Eels',
      'Mara · 26 November 2026',
      'Words of Eels',
      '',
      'Owls',
      '26 November 2026',
      'Words of Owls',
    ]);
    expect(made.summary).toBe('Eels · Owls');
  });
  it('holds what it is to hold, with a link to what is more', () => {
    const long = post(
      'Long',
      ['1', '2', '3', '4'].map((one) => paragraph(one)),
    );
    const words = (holds: 'whole' | 'beginning' | 'summary') => said(compose([long], '', { ...WAY, holds }).document);
    expect(words('whole')).toEqual(['1', '2', '3', '4']);
    expect(words('beginning')).toEqual(['1', '2', '3', 'Read on →']);
    expect(words('summary')).toEqual(['About Long', 'Read on →']);
    // Of a post that the feed has no words of, its summary stands there.
    expect(said(compose([post('Bare', [])], '', WAY).document)).toEqual(['About Bare']);
  });
  it('begins with a note where there is one, and invites under each post', () => {
    const made = compose([post('Eels')], '', { ...WAY, intro: 'Hello\nthere\n\n\n Again ', invitation: 'Say what you think' });
    expect(said(made.document)).toEqual(['Hello there', 'Again', '', 'Words of Eels', 'Say what you think']);
  });
  it('marks links to the blog alone, each once', () => {
    const nodes = [paragraph('here', 'https://lanternfish.example/other?a=1'), paragraph('there', 'https://saltmarsh.example/x')];
    const made = compose([post('Eels', nodes)], '', { ...WAY, campaign: 'new-posts' });
    expect(links(made.document)).toEqual([
      'https://lanternfish.example/other?a=1&utm_source=newsletter&utm_medium=email&utm_campaign=new-posts',
      'https://saltmarsh.example/x',
    ]);
    const once = withMarks('https://lanternfish.example/?utm_source=mine', 'c', 'lanternfish.example');
    expect(once).toBe('https://lanternfish.example/?utm_source=mine&utm_medium=email&utm_campaign=c');
    expect(withMarks('mailto:a@lanternfish.example', 'c', '')).toBe('mailto:a@lanternfish.example');
  });
  it('lowers headings within posts of several', () => {
    const made = compose([post('A', [{ kind: 'heading', level: 1, inline: run('Inner') }]), post('B')], '', WAY);
    expect(made.document.nodes.filter((node) => node.kind === 'heading').map((node) => node.level)).toEqual([2, 3, 2]);
  });
  it('is never much more than a mail program shows, whatever the posts weigh, and cuts between blocks', () => {
    fc.assert(
      fc.property(
        fc.array(fc.array(fc.integer({ min: 1, max: 20_000 }), { maxLength: 12 }), { minLength: 1, maxLength: 6 }),
        (sizes) => {
          const posts = sizes.map((all, n) =>
            post(
              `P${n}`,
              all.map((size) => paragraph('x'.repeat(size))),
            ),
          );
          const { document } = compose(posts, 'S', WAY);
          const weight = JSON.stringify(document.nodes).length;
          expect(weight).toBeLessThan(MOST_WEIGHT * 2 + 600 * posts.length);
          const whole = new Set(posts.flatMap((one) => one.document.nodes.map((node) => JSON.stringify(node))));
          for (const node of document.nodes)
            if (node.kind === 'paragraph' && said({ version: 1, nodes: [node] })[0]!.startsWith('xx'))
              expect(whole.has(JSON.stringify(node))).toBe(true);
        },
      ),
      { numRuns: 60 },
    );
  });
});
