import sanitize from 'sanitize-html';
import { shallow } from './shallow';
import { whole, withoutMarks } from './slots';

/** What HTML of one's own may say of how it looks: nothing that fetches, covers, or moves out of its place. */
const PLAIN = [/^(?!.*(?:url|expression|@import|javascript|\\))[^;{}<>]{1,200}$/i];
const STYLES = Object.fromEntries(
  'background background-color border border-bottom border-collapse border-color border-left border-radius border-right border-spacing border-style border-top border-width color direction display font font-family font-size font-style font-weight height letter-spacing line-height list-style-type margin margin-bottom margin-left margin-right margin-top max-width min-width padding padding-bottom padding-left padding-right padding-top text-align text-decoration text-indent text-transform vertical-align white-space width'
    .split(' ')
    .map((name) => [name, PLAIN]),
);
const TABLE = [
  'width',
  'height',
  'align',
  'valign',
  'bgcolor',
  'cellpadding',
  'cellspacing',
  'border',
  'colspan',
  'rowspan',
  'scope',
  'role',
];

/**
 * HTML that a writer typed into a letter, with what could do anything taken out: scripts, handlers, forms, frames, style sheets, and addresses that are
 * neither of the web nor of mail. What is left is well formed. Never throws.
 */
export const cleanHtml = (html: string): string =>
  sanitize(shallow(whole(withoutMarks(html))), {
    allowedTags:
      'a abbr b blockquote br caption center cite code col colgroup dd del div dl dt em font h2 h3 h4 h5 h6 hr i img ins kbd li mark ol p pre q s small span strong sub sup table tbody td tfoot th thead tr u ul'.split(
        ' ',
      ),
    allowedAttributes: {
      '*': ['style', 'dir', 'lang', 'title', 'align'],
      a: ['href', 'style'],
      img: ['src', 'alt', 'width', 'height', 'style', 'border'],
      font: ['color', 'face', 'size'],
      ...Object.fromEntries(
        ['table', 'td', 'th', 'tr', 'col', 'colgroup', 'tbody', 'thead', 'tfoot'].map((tag) => [tag, [...TABLE, 'style']]),
      ),
    },
    allowedStyles: { '*': STYLES },
    allowedSchemes: ['http', 'https', 'mailto'],
    allowedSchemesByTag: { img: ['http', 'https'] },
    allowProtocolRelative: false,
    disallowedTagsMode: 'discard',
    nestingLimit: 60,
  });

/** Is anything of it taken out before it is sent? Compared by its words and tags, not by how they are written. */
export function loses(html: string): boolean {
  const shape = (text: string) => (text.match(/<[a-z][^>]*>/gi) ?? []).length;
  return shape(cleanHtml(html)) < shape(html.replace(/<!--[\s\S]*?-->/g, ''));
}
