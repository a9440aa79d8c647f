import { Extension, Mark, mergeAttributes, Node } from '@tiptap/core';
import { Blockquote } from '@tiptap/extension-blockquote';
import { Bold } from '@tiptap/extension-bold';
import { Code } from '@tiptap/extension-code';
import { CodeBlock } from '@tiptap/extension-code-block';
import { Document } from '@tiptap/extension-document';
import { HardBreak } from '@tiptap/extension-hard-break';
import { Heading } from '@tiptap/extension-heading';
import { HorizontalRule } from '@tiptap/extension-horizontal-rule';
import { Italic } from '@tiptap/extension-italic';
import { BulletList } from '@tiptap/extension-list/bullet-list';
import { ListItem } from '@tiptap/extension-list/item';
import { ListKeymap } from '@tiptap/extension-list/keymap';
import { OrderedList } from '@tiptap/extension-list/ordered-list';
import { Paragraph } from '@tiptap/extension-paragraph';
import { Strike } from '@tiptap/extension-strike';
import Subscript from '@tiptap/extension-subscript';
import Superscript from '@tiptap/extension-superscript';
import { TableCell } from '@tiptap/extension-table/cell';
import { TableHeader } from '@tiptap/extension-table/header';
import { TableRow } from '@tiptap/extension-table/row';
import { Table } from '@tiptap/extension-table/table';
import { Text } from '@tiptap/extension-text';
import { Underline } from '@tiptap/extension-underline';
import { Dropcursor } from '@tiptap/extensions/drop-cursor';
import { Gapcursor } from '@tiptap/extensions/gap-cursor';
import { Placeholder } from '@tiptap/extensions/placeholder';
import { TrailingNode } from '@tiptap/extensions/trailing-node';
import { UndoRedo } from '@tiptap/extensions/undo-redo';
import { Plugin } from '@tiptap/pm/state';
import { ReactNodeViewRenderer } from '@tiptap/react';
import type { BlockLook } from '@/core/writing/document';
import { inkOn } from '@/core/writing/look';
import { Block, Chip, Footnote, Part } from './blocks';

/*
 * The editor's nodes beside those of its kit: one for each of the document's own kinds (core/writing/editing maps them). Those that are a thing and not
 * text are shown by a block with its settings beside it.
 */

const attribute = (fallback: unknown) => ({ default: fallback, rendered: false });

/** A thing among the text: it has attributes and no text of its own. */
const thing = (name: string, attrs: Record<string, unknown>) =>
  Node.create({
    name,
    group: 'block',
    atom: true,
    draggable: true,
    selectable: true,
    addAttributes: () => Object.fromEntries(Object.entries(attrs).map(([key, value]) => [key, attribute(value)])),
    parseHTML: () => [{ tag: `ink-${name.toLowerCase()}` }],
    renderHTML: ({ HTMLAttributes }) => [`ink-${name.toLowerCase()}`, mergeAttributes(HTMLAttributes)],
    addNodeView: () => ReactNodeViewRenderer(Block),
  });

/** Blocks around other blocks. */
const frame = (name: string, content: string, tag: string, className: string) =>
  Node.create({
    name,
    group: name === 'column' ? '' : 'block',
    content,
    defining: true,
    isolating: name === 'column',
    parseHTML: () => [{ tag: `${tag}.${className}` }],
    renderHTML: () => [tag, { class: className }, 0],
  });

/** Where a block differs from its layout, shown on the block itself. */
const OwnLook = Extension.create({
  name: 'ownLook',
  addGlobalAttributes: () => [
    {
      types: ['paragraph', 'heading', 'pullQuote', 'callOut', 'picture', 'actButton', 'horizontalRule'],
      attributes: {
        look: {
          default: null,
          parseHTML: () => null,
          renderHTML: ({ look }) => (look ? { style: styleOf(look as BlockLook) } : {}),
        },
      },
    },
  ],
});

function styleOf({ align, colour, ground }: BlockLook): string {
  const ink = colour ?? (ground ? inkOn(ground) : undefined);
  return [
    align && `text-align:${{ start: 'start', centre: 'center', end: 'end' }[align]}`,
    ink && `color:${ink}`,
    ground && `background:${ground};padding:10px 14px`,
  ]
    .filter(Boolean)
    .join(';');
}

/** Blocks that only some readers get. */
const PartNode = Node.create({
  name: 'part',
  group: 'block',
  content: 'block+',
  defining: true,
  addAttributes: () => ({ segmentId: attribute(''), inside: attribute(true) }),
  parseHTML: () => [{ tag: 'ink-part' }],
  renderHTML: () => ['ink-part', 0],
  addNodeView: () => ReactNodeViewRenderer(Part),
});

const NoteNode = Node.create({
  name: 'note',
  group: 'inline',
  inline: true,
  atom: true,
  selectable: true,
  addAttributes: () => ({ words: attribute([]) }),
  parseHTML: () => [{ tag: 'ink-note' }],
  renderHTML: () => ['ink-note'],
  addNodeView: () => ReactNodeViewRenderer(Footnote, { as: 'span' }),
});

const PullQuote = Node.create({
  name: 'pullQuote',
  group: 'block',
  content: 'inline*',
  defining: true,
  addAttributes: () => ({ by: attribute('') }),
  parseHTML: () => [{ tag: 'blockquote.pull' }],
  renderHTML: () => ['blockquote', { class: 'pull' }, 0],
});

const ChipNode = Node.create({
  name: 'chip',
  group: 'inline',
  inline: true,
  atom: true,
  selectable: true,
  addAttributes: () => ({ field: attribute('first_name'), fallback: attribute('') }),
  parseHTML: () => [{ tag: 'data[value]' }],
  renderHTML: ({ node }) => ['data', { value: node.attrs.field }, String(node.attrs.fallback)],
  addNodeView: () => ReactNodeViewRenderer(Chip, { as: 'span' }),
});

/** A picture out of pasted HTML keeps its address and its description. */
const Picture = thing('picture', { src: '', alt: '', href: '', caption: [], credit: '' }).extend({
  parseHTML: () => [
    {
      tag: 'img[src]',
      getAttrs: (element) => {
        const src = element.getAttribute('src') ?? '';
        return /^https?:\/\//i.test(src) ? { src, alt: element.getAttribute('alt') ?? '' } : false;
      },
    },
  ],
});

/** Only addresses of the web and of mail, whatever is pasted. */
const isAddress = (href: unknown): href is string => typeof href === 'string' && /^(https?:|mailto:)/i.test(href);

declare module '@tiptap/core' {
  interface Commands<ReturnType> {
    link: { setLink: (attrs: { href: string }) => ReturnType; unsetLink: () => ReturnType };
  }
}

/** A link. An address that is pasted over chosen words becomes theirs. */
const Link = Mark.create({
  name: 'link',
  inclusive: false,
  addAttributes: () => ({ href: { default: null } }),
  parseHTML: () => [{ tag: 'a[href]', getAttrs: (element) => (isAddress(element.getAttribute('href')) ? null : false) }],
  renderHTML: ({ HTMLAttributes }) => ['a', { href: isAddress(HTMLAttributes.href) ? HTMLAttributes.href : '' }, 0],
  addCommands() {
    return {
      setLink:
        (attrs) =>
        ({ commands }) =>
          isAddress(attrs.href) && commands.setMark(this.name, attrs),
      unsetLink:
        () =>
        ({ commands }) =>
          commands.unsetMark(this.name, { extendEmptyMarkRange: true }),
    };
  },
  addPasteRules: () => [],
  addProseMirrorPlugins() {
    const { editor } = this;
    return [
      new Plugin({
        props: {
          handlePaste: (view, event) => {
            const text = event.clipboardData?.getData('text/plain').trim() ?? '';
            if (view.state.selection.empty || !/^(https?:\/\/|mailto:)\S+$/i.test(text)) return false;
            return editor.commands.setLink({ href: text });
          },
        },
      }),
    ];
  },
});

export const extensions = (placeholder: string) => [
  Document,
  Paragraph,
  Text,
  Heading.configure({ levels: [1, 2, 3] }),
  BulletList,
  OrderedList,
  ListKeymap,
  // What comes from elsewhere may begin with a picture.
  ListItem.extend({ content: 'block+' }),
  Blockquote,
  CodeBlock,
  HardBreak,
  HorizontalRule,
  Bold,
  Italic,
  Underline,
  Strike,
  Code.extend({ excludes: '' }),
  Link,
  Dropcursor,
  Gapcursor,
  UndoRedo,
  TrailingNode.configure({ node: 'paragraph' }),
  Subscript,
  Superscript,
  Table,
  TableRow,
  // A cell is some lines of words, as every mail program shows it.
  TableCell.extend({ content: 'paragraph+' }),
  TableHeader.extend({ content: 'paragraph+' }),
  Placeholder.configure({ placeholder, includeChildren: false }),
  PullQuote,
  frame('callOut', 'block+', 'aside', 'call-out'),
  frame('columns', 'column{2,3}', 'div', 'columns'),
  frame('column', 'block+', 'div', 'column'),
  Picture,
  thing('gallery', { pictures: [] }),
  thing('card', { href: 'https://', title: '', words: '', picture: '' }),
  thing('actButton', { label: 'Read on', href: 'https://' }),
  thing('spacer', { size: 'medium' }),
  thing('latest', { most: 3, words: true }),
  thing('signUp', { formId: null }),
  thing('html', { html: '' }),
  thing('kept', { node: null }),
  PartNode,
  ChipNode,
  NoteNode,
  OwnLook,
];
