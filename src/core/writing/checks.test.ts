import { describe, expect, it } from 'vitest';
import { checksOf } from './checks';
import type { Node } from './document';

const p = (text: string, href?: string): Node => ({
  kind: 'paragraph',
  inline: [{ kind: 'text', text, ...(href ? { href } : {}) }],
});
const titles = (nodes: Node[], subject = 'The lamp-fish census', previewLine = 'Counting lights') =>
  checksOf({ document: { version: 1, nodes }, subject, previewLine }).map(({ tone, title }) => `${tone}: ${title}`);

describe('checks of a letter', () => {
  it.each<[string, Node[], string | undefined, string | undefined, string[]]>([
    [
      'nothing amiss',
      [p('words', 'https://a.example/b'), p('mail', 'mailto:a@b.example')],
      undefined,
      undefined,
      ['fine: Nothing to mend'],
    ],
    ['no subject', [p('words')], '', undefined, ['stop: It has no subject']],
    ['nothing written', [{ kind: 'paragraph', inline: [] }], undefined, undefined, ['stop: Nothing is written yet']],
    [
      'pictures that are not described, deep inside too',
      [
        p('a'),
        p('b'),
        {
          kind: 'columns',
          columns: [
            [{ kind: 'picture', src: 'https://a.example/1.png', alt: ' ' }],
            [{ kind: 'gallery', pictures: [{ src: 'https://a.example/2.png', alt: '' }] }],
          ],
        },
      ],
      undefined,
      undefined,
      ['look: 2 pictures have no description'],
    ],
    [
      'a chip without anything',
      [{ kind: 'quote', nodes: [{ kind: 'paragraph', inline: [{ kind: 'chip', field: 'first_name', fallback: '' }] }] }],
      undefined,
      undefined,
      ['look: 1 chip has nothing for who gave no answer'],
    ],
    [
      'links that lead nowhere',
      [
        p('a', 'https://'),
        { kind: 'button', label: 'x', href: 'https://' },
        { kind: 'card', href: 'http://nowhere', title: '', words: '', picture: '' },
      ],
      undefined,
      undefined,
      ['stop: 3 links lead nowhere'],
    ],
    ['a long subject', [p('a')], 'x'.repeat(61), undefined, ['look: The subject is long']],
    [
      'capitals and marks',
      [p('a')],
      'LOOK AT THIS!!!',
      undefined,
      ['look: The subject is in capitals alone', 'look: The subject has marks in a row'],
    ],
    ['an alphabet without capitals', [p('a')], '深海の手紙について', undefined, ['fine: Nothing to mend']],
    ['no preview line', [p('a')], undefined, '', ['look: No preview line']],
    [
      'more pictures than words',
      [{ kind: 'picture', src: 'https://a.example/1.png', alt: 'a' }, { kind: 'divider' }],
      undefined,
      undefined,
      ['look: More pictures than words'],
    ],
  ])('%s', (_, nodes, subject, previewLine, expected) => {
    expect(titles(nodes, subject, previewLine)).toEqual(expected);
  });
});
