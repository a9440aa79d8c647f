import { directionOf } from '../forms/words';
import { escapeHtml } from '../html';
import { cleanHtml } from './clean-html';
import type { BlockLook, Document, Inline, Mark, Node, Picture } from './document';
import { inkOn } from './look';

const TAGS: Record<Mark, string> = {
  bold: 'strong',
  italic: 'em',
  underline: 'u',
  strike: 's',
  code: 'code',
  sub: 'sub',
  sup: 'sup',
};

/** What a page has beside the document: its notes as they are met, the newest posts, and its sign-up form as HTML. */
type Beside = { notes: Inline[][]; signUp: (formId: string | null) => string };

function inlineHtml(inline: Inline[], page: Beside): string {
  return inline
    .map((one) => {
      if (one.kind === 'break') return '<br>';
      if (one.kind === 'note') {
        const n = page.notes.push(one.words);
        return `<sup><a id="to-note-${n}" href="#note-${n}">${n}</a></sup>`;
      }
      // On a page that everybody reads there is nobody to name.
      if (one.kind === 'chip') return escapeHtml(one.fallback);
      if (one.kind !== 'text') return '';
      const words = (one.marks ?? []).reduce((text, mark) => `<${TAGS[mark]}>${text}</${TAGS[mark]}>`, escapeHtml(one.text));
      return one.href ? `<a href="${escapeHtml(one.href)}">${words}</a>` : words;
    })
    .join('');
}

function pictureHtml({ src, alt, href }: Picture): string {
  const picture = `<img src="${escapeHtml(src)}" alt="${escapeHtml(alt)}">`;
  return href ? `<a href="${escapeHtml(href)}">${picture}</a>` : picture;
}

const CSS_ALIGN = { start: 'start', centre: 'center', end: 'end' } as const;
const SHARE = { full: '100%', half: '50%', third: '33.33%' } as const;

/** Where a block differs from the page's look. */
function styled(look: BlockLook | undefined): string {
  if (!look) return '';
  const colour = look.colour ?? (look.ground ? inkOn(look.ground) : '');
  const rules = [
    look.align && `text-align:${CSS_ALIGN[look.align]}`,
    colour && `color:${colour}`,
    look.ground && `background:${look.ground};padding:.6em .9em`,
    look.width && look.width !== 'full' && `max-width:${SHARE[look.width]}`,
    look.width && look.width !== 'full' && look.align === 'centre' && 'margin-inline:auto',
    look.width && look.width !== 'full' && look.align === 'end' && 'margin-inline:auto 0',
  ].filter(Boolean);
  return rules.length ? ` style="${rules.join(';')}"` : '';
}

function nodeHtml(node: Node, page: Beside): string {
  const inline = (all: Inline[]) => inlineHtml(all, page);
  const inner = (nodes: Node[]) =>
    nodes
      .map((one) => nodeHtml(one, page))
      .filter(Boolean)
      .join('\n');
  switch (node.kind) {
    case 'heading': {
      // The page's own title is the first.
      const level = Math.max(2, node.level);
      return `<h${level}${styled(node.look)}>${inline(node.inline)}</h${level}>`;
    }
    case 'subtitle':
      return `<p class="subtitle">${escapeHtml(node.text)}</p>`;
    case 'paragraph':
      return `<p${styled(node.look)}>${inline(node.inline)}</p>`;
    case 'list': {
      const tag = node.ordered ? 'ol' : 'ul';
      const item = (nodes: Node[]) =>
        nodes.length === 1 && nodes[0]?.kind === 'paragraph' ? inline(nodes[0].inline) : inner(nodes);
      return `<${tag}>\n${node.items.map((nodes) => `<li>${item(nodes)}</li>`).join('\n')}\n</${tag}>`;
    }
    case 'quote':
      return `<blockquote>\n${inner(node.nodes)}\n</blockquote>`;
    case 'pull quote':
      return `<figure class="pull"${styled(node.look)}><blockquote><p>${inline(node.inline)}</p></blockquote>${node.by ? `<figcaption>${escapeHtml(node.by)}</figcaption>` : ''}</figure>`;
    case 'call-out':
      return `<aside${styled(node.look)}>\n${inner(node.nodes)}\n</aside>`;
    case 'columns':
      return `<div class="columns">\n${node.columns.map((nodes) => `<div>\n${inner(nodes)}\n</div>`).join('\n')}\n</div>`;
    case 'gallery':
      return `<div class="gallery">${node.pictures.map(pictureHtml).join('')}</div>`;
    case 'card': {
      const picture = node.picture ? `<img src="${escapeHtml(node.picture)}" alt="">` : '';
      return `<p class="card"><a href="${escapeHtml(node.href)}">${picture}${escapeHtml(node.title || node.href)}</a>${node.words ? ` ${escapeHtml(node.words)}` : ''}</p>`;
    }
    case 'spacer':
      return `<div class="space ${node.size}"></div>`;
    case 'code':
      return `<pre><code>${escapeHtml(node.text)}</code></pre>`;
    case 'table': {
      const cells = (row: (typeof node.rows)[number]) =>
        row.cells.map((cell) => (row.head ? `<th scope="col">${inline(cell)}</th>` : `<td>${inline(cell)}</td>`)).join('');
      return `<table>\n${node.rows.map((row) => `<tr>${cells(row)}</tr>`).join('\n')}\n</table>`;
    }
    case 'picture': {
      const words = [
        node.caption?.length ? inline(node.caption) : '',
        node.credit ? `<small class="credit">${escapeHtml(node.credit)}</small>` : '',
      ];
      const caption = words.filter(Boolean).join(' ');
      return `<figure${styled(node.look)}>${pictureHtml(node)}${caption && `<figcaption>${caption}</figcaption>`}</figure>`;
    }
    case 'button':
      return `<p${node.look?.align ? styled({ align: node.look.align }) : ''}><a class="button"${node.look?.colour ? ` style="background:${node.look.colour};color:${inkOn(node.look.colour)}"` : ''} href="${escapeHtml(node.href)}">${escapeHtml(node.label)}</a></p>`;
    case 'divider':
      return node.look?.colour ? `<hr style="border-color:${node.look.colour}">` : '<hr>';
    case 'byline':
      return `<p class="byline">${escapeHtml(node.text)}</p>`;
    case 'sign-up':
      return page.signUp(node.formId);
    case 'html':
      return `<div class="own">${cleanHtml(node.html)}</div>`;
    default:
      // Of a later version, or for some readers alone: nothing for everybody.
      return '';
  }
}

/**
 * A document as HTML of its meaning alone, without a look: for pages and for whoever takes it elsewhere. Notes stand at its end. `signUp` gives the HTML
 * of a sign-up form; without it there is none.
 */
export function webHtml(document: Document, signUp: (formId: string | null) => string = () => ''): string {
  const page: Beside = { notes: [], signUp };
  const body = document.nodes.map((node) => nodeHtml(node, page)).filter(Boolean);
  if (page.notes.length === 0) return body.join('\n');
  const items = page.notes.map(
    (words, n) =>
      `<li id="note-${n + 1}">${inlineHtml(words, page)} <a href="#to-note-${n + 1}" aria-label="↑ ${n + 1}">↑</a></li>`,
  );
  return [...body, `<ol class="notes">\n${items.join('\n')}\n</ol>`].join('\n');
}

/** The same as a whole page that needs nothing else. */
export function webPage(document: Document, page: { title: string; subtitle: string; language: string }): string {
  const head = `<meta charset="utf-8">\n<meta name="viewport" content="width=device-width">\n<title>${escapeHtml(page.title)}</title>`;
  const subtitle = page.subtitle ? `<p class="subtitle">${escapeHtml(page.subtitle)}</p>\n` : '';
  return `<!doctype html>\n<html lang="${escapeHtml(page.language)}" dir="${directionOf(page.language)}">\n<head>\n${head}\n</head>\n<body>\n<article>\n<h1>${escapeHtml(page.title)}</h1>\n${subtitle}${webHtml(document)}\n</article>\n</body>\n</html>\n`;
}
