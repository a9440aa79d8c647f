import { convert } from 'html-to-text';
import type { Block, Document } from './document';
import { type LetterFrame, SLOT } from './render';
import { slot } from './slots';

const WIDTH = 72;

function blockText(block: Block): string {
  switch (block.kind) {
    case 'heading':
      return `${block.text}\n${'='.repeat(Math.min(WIDTH, [...block.text].length))}${block.href ? `\n${block.href}` : ''}`;
    case 'subtitle':
      return block.text;
    case 'text':
      return convert(block.html, {
        wordwrap: WIDTH,
        selectors: [
          { selector: 'a', options: { hideLinkHrefIfSameAsText: true, linkBrackets: ['<', '>'] } },
          { selector: 'img', format: 'skip' },
          { selector: 'h1', options: { uppercase: false } },
          { selector: 'h2', options: { uppercase: false } },
          { selector: 'h3', options: { uppercase: false } },
        ],
      });
    case 'picture':
      return block.alt ? `[${block.alt}]` : '';
    case 'button':
      return `${block.label}:\n${block.href}`;
    case 'divider':
      return '* * *';
  }
}

/** The plain-text part: the same words, set for a column of 72 characters, a blank line between blocks, the colophon last. */
export function renderText(document: Document, frame: LetterFrame): string {
  const body = document.blocks.map(blockText).filter(Boolean).join('\n\n');
  const address = frame.colophon.postalAddress.replace(/\r?\n/g, ', ');
  return `${frame.brand.name}\n\n${body}\n\n-- \n${frame.colophon.reasonLine}\n${address}${(frame.brand.links ?? []).map((link) => `\n${link.label}: ${link.url}`).join('')}\nLeave this list: ${slot(SLOT.leave)}\n`;
}
