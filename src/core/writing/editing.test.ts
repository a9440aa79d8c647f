import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { node } from './arbitrary';
import { differenceOf, saidIn } from './differing';
import type { Document, Node } from './document';
import { changeBetween, changed, fromEditor, readingMinutes, toEditor, wordsIn } from './editing';
import { documentSchema } from './schemas';

describe('a document in the editor', () => {
  it('comes out as it went in, whatever stands in it, also of a later version', () => {
    fc.assert(
      fc.property(fc.array(node, { maxLength: 6 }), (nodes) => {
        const document: Document = { version: 1, nodes: [...nodes, { kind: 'divider' }] };
        expect(fromEditor(toEditor(document))).toEqual(document);
      }),
      { numRuns: 400 },
    );
  });

  it('is always one that can be kept, whatever the editor says', () => {
    const odd = {
      type: 'doc',
      content: [
        {
          type: 'paragraph',
          content: [
            {
              type: 'text',
              text: 'a\ue000leave\ue001',
              marks: [{ type: 'link', attrs: { href: 'javascript:alert(1)' } }, { type: 'unheard' }],
            },
          ],
        },
        { type: 'picture', attrs: { src: null } },
        { type: 'columns', content: [{ type: 'column', content: [{ type: 'paragraph' }] }] },
        { type: 'unheard', content: [{ type: 'paragraph', content: [{ type: 'text', text: 'kept' }] }] },
        { type: 'heading', attrs: { level: 9 } },
        { type: 'paragraph' },
      ],
    };
    const document = fromEditor(odd);
    expect(documentSchema.validate(document).error).toBeUndefined();
    expect(document.nodes).toEqual([
      { kind: 'paragraph', inline: [{ kind: 'text', text: 'aleave' }] },
      { kind: 'paragraph', inline: [] },
      { kind: 'paragraph', inline: [{ kind: 'text', text: 'kept' }] },
      { kind: 'heading', level: 2, inline: [] },
    ]);
  });
});

describe('what changed of a document', () => {
  it('leads from one state to the other, and says no more than needed', () => {
    fc.assert(
      fc.property(fc.array(node, { maxLength: 6 }), fc.array(node, { maxLength: 6 }), (before, after) => {
        const change = changeBetween(before, after);
        expect(change === null ? before : changed(before, change)).toEqual(after);
      }),
    );
    const p = (said: string): Node => ({ kind: 'paragraph', inline: [{ kind: 'text', text: said }] });
    const long = Array.from({ length: 300 }, (_, n) => p(`paragraph ${n}`));
    const edited = long.map((one, n) => (n === 150 ? p('another') : one));
    expect(changeBetween(long, edited)).toEqual({ at: 150, remove: 1, insert: [p('another')] });
    expect(changeBetween(long, long)).toBeNull();
    expect(changed(long, { at: 299, remove: 2, insert: [] })).toBeNull();
    expect(changed(long, { at: -1, remove: 0, insert: [] })).toBeNull();
  });

  it('counts words as readers do', () => {
    const document: Document = {
      version: 1,
      nodes: [
        {
          kind: 'quote',
          nodes: [
            {
              kind: 'paragraph',
              inline: [
                { kind: 'text', text: 'At six — hundred ' },
                { kind: 'text', text: 'métres.', href: 'https://a.example/not-a-word' },
              ],
            },
          ],
        },
      ],
    };
    expect(wordsIn(document)).toBe(4);
    expect([0, 100, 612].map(readingMinutes)).toEqual([1, 1, 3]);
  });
});

describe('how a document came out of another', () => {
  it('is told as words that went and came, and as nothing where nothing did', () => {
    const one = (said: string): Document => ({
      version: 1,
      nodes: [
        { kind: 'paragraph', inline: [{ kind: 'text', text: said }] },
        { kind: 'button', label: 'Look', href: 'https://a.example' },
      ],
    });
    expect(differenceOf(one('six hundred metres down'), one('nine hundred metres'))).toEqual([
      { kind: 'gone', text: 'six' },
      { kind: 'new', text: 'nine' },
      { kind: 'same', text: ' hundred metres' },
      { kind: 'gone', text: ' down' },
      { kind: 'same', text: '\n\n[Look] https://a.example' },
    ]);
    fc.assert(
      fc.property(fc.array(node, { maxLength: 4 }), fc.array(node, { maxLength: 4 }), (before, after) => {
        const pieces = differenceOf({ version: 1, nodes: before }, { version: 1, nodes: after });
        const side = (without: string) =>
          pieces
            .filter((piece) => piece.kind !== without)
            .map((piece) => piece.text)
            .join('');
        expect(side('new')).toBe(saidIn({ version: 1, nodes: before }));
        expect(side('gone')).toBe(saidIn({ version: 1, nodes: after }));
      }),
      { numRuns: 60 },
    );
  });
});
