import { getSchema } from '@tiptap/core';
import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import { node } from '@/core/writing/arbitrary';
import type { Document } from '@/core/writing/document';
import { fromEditor, toEditor } from '@/core/writing/editing';
import { extensions } from './extensions';

describe('the editor', () => {
  it('holds every document there is, and gives it back as it was', () => {
    const schema = getSchema(extensions(''));
    fc.assert(
      fc.property(fc.array(node, { maxLength: 5 }), (nodes) => {
        const document: Document = { version: 1, nodes: [...nodes, { kind: 'divider' }] };
        const opened = schema.nodeFromJSON(toEditor(document));
        opened.check();
        expect(fromEditor(opened.toJSON())).toEqual(document);
      }),
      { numRuns: 300 },
    );
  });
});
