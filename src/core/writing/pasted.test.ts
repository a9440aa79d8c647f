import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { describe, expect, it } from 'vitest';
import { saidIn } from './differing';
import { every, inlineOf } from './document';
import { fromMarkdown } from './from-markdown';
import { fromPasted } from './pasted';
import { documentSchema } from './schemas';

const data = (name: string) => readFileSync(join(import.meta.dirname, '../../../tests/data/pasted', name), 'utf8');
/** Everything that a document would put into a letter but its words. */
const leads = (document: ReturnType<typeof fromPasted>) =>
  [...every(document.nodes)].flatMap((node) =>
    inlineOf(node).flatMap((one) => (one.kind === 'text' && one.href ? [one.href] : [])),
  );

describe('what is pasted', () => {
  it('from a word processor is clean: lists are lists, nothing of its own programs is left', () => {
    const document = fromPasted(data('word-processor.html'));
    expect(documentSchema.validate(document).error).toBeUndefined();
    expect(document.nodes.map((one) => one.kind)).toEqual(['heading', 'paragraph', 'list', 'list', 'table']);
    expect(saidIn(document)).toBe(
      'The lamp-fish census\n\nWe counted twice, slowly, and wrote it down.[1]\n\n- A tray\n\n- - of steel\n\n- A torch\n\n- Haul\n\n- Count\n\nHaul | By hand\n\n14 | 212',
    );
    expect(document.nodes[3]).toMatchObject({ ordered: true });
    expect(document.nodes[2]).toMatchObject({ ordered: false });
    expect(leads(document)).toEqual(['https://lanternfish.example/notes']);
    expect(JSON.stringify(document)).not.toMatch(/mso|Mso|ftn/);
  });

  it('from a document on the web takes what its styles mean', () => {
    const document = fromPasted(data('online-document.html'));
    expect(document.nodes.map((one) => one.kind)).toEqual(['heading', 'paragraph', 'list', 'picture']);
    const said = document.nodes[1]!;
    expect(said.kind === 'paragraph' && said.inline).toEqual([
      { kind: 'text', text: 'At six hundred metres the net comes up ' },
      { kind: 'text', text: 'glowing', marks: ['bold', 'italic'] },
      { kind: 'text', text: ', then H' },
      { kind: 'text', text: '2', marks: ['sub'] },
      { kind: 'text', text: 'O. ' },
      { kind: 'text', text: 'More of it', href: 'https://lanternfish.example/b' },
    ]);
    expect(saidIn({ version: 1, nodes: [document.nodes[2]!] })).toBe('- One\n\n- - One and a half\n\n- Two');
    expect(document.nodes[3]).toEqual({ kind: 'picture', src: 'https://pictures.example/reef.png', alt: 'A reef' });
  });

  it('from a page is what it says, without what it does', () => {
    const document = fromPasted(data('web-page.html'));
    expect(document.nodes.map((one) => one.kind)).toEqual(['paragraph', 'heading', 'paragraph', 'quote', 'picture', 'code']);
    expect(leads(document)).toEqual(['https://lanternfish.example/c?utm=1']);
    expect(JSON.stringify(document)).not.toMatch(/script|javascript|iframe|form|input|Join|count\.example|onclick/);
  });

  it('from a spreadsheet is a table', () => {
    const { nodes } = fromPasted(data('spreadsheet.html'));
    expect(nodes.map((one) => one.kind)).toEqual(['table']);
    expect(saidIn({ version: 1, nodes })).toBe('Haul | By hand | By eye\n\n14 | 212 | 190\n\n15 | 98 | ');
  });

  it('as Markdown is what its signs mean', () => {
    const { document, front } = fromMarkdown(data('notes.md'));
    expect(front).toEqual({ title: 'Notes from the boat', subtitle: 'In the second winter', topics: ['Deep water'] });
    expect(document.nodes.map((one) => one.kind)).toEqual([
      'heading',
      'paragraph',
      'list',
      'list',
      'quote',
      'table',
      'picture',
      'paragraph',
    ]);
    expect(inlineOf(document.nodes[1]!).some((one) => one.kind === 'note')).toBe(true);
  });

  it('in megabytes, in depth, or broken, ends and keeps what can be kept', () => {
    const row =
      '<p class=MsoNormal style="margin:0cm"><span style="font-family:Calibri;mso-x:y">Five megabytes of it.<o:p></o:p></span></p>\n';
    const large = fromPasted(
      `<html><head><style>${'p{margin:0}'.repeat(90_000)}</style></head><body>${row.repeat(40_000)}</body></html>`,
    );
    expect(large.nodes.length).toBe(3_000);
    expect(fromPasted('<table><tr><td>'.repeat(2_000)).nodes.length).toBeLessThan(10);
    expect(fromPasted('<span style="font-weight:bold">'.repeat(50_000)).nodes).toEqual([]);
    expect(saidIn(fromPasted('<b>open <i>still</b> open</i> <p>next'))).toContain('open still open');
    expect(saidIn(fromPasted('a\u0000b\u202ec\ud800'))).toBe('abc\ufffd');
  });
});
