import mjml2html from 'mjml';
import { directionOf } from '../forms/words';
import { escapeHtml } from '../html';
import { cleanHtml } from './clean-html';
import type { BlockLook, Document, Inline, Mark, Node, Picture } from './document';
import { lineTemplate } from './line';
import { CORNERS, FACES, inkOn, type Look, ROOMS, STARTING_LOOK } from './look';
import { chipSlot, PART_ENDS, partSlot, SLOT, slot } from './slots';
import { letterWords } from './words';

/** `colour` is that of links and buttons; `logo` an address; `links` stand in the colophon. */
export type Brand = {
  name: string;
  colour: string;
  language: string;
  logo?: string | null;
  links?: { label: string; url: string }[];
};
/** The colophon: what every letter ends with. */
export type Colophon = { reasonLine: string; postalAddress: string };
export type LetterFrame = {
  brand: Brand;
  colophon: Colophon;
  previewLine: string;
  /** Carries a picture that counts openings. */
  countsOpens: boolean;
  /** How it looks; as every newsletter begins where it is not said. */
  look?: Look;
  /** Has a page of the reader's own, on which the letter can be seen in a browser. */
  seen?: boolean;
};

/** What the parts of one letter are drawn by. `notes` are gathered as they are met. */
type Setting = { look: Look; accent: string; room: number; ltr: boolean; base: string; sans: string; notes: Inline[][] };

const TAGS: Record<Mark, [string, string]> = {
  bold: ['<strong>', '</strong>'],
  italic: ['<em>', '</em>'],
  underline: ['<u>', '</u>'],
  strike: ['<s>', '</s>'],
  code: ['<code style="font-family:monospace;font-size:15px">', '</code>'],
  sub: ['<sub>', '</sub>'],
  sup: ['<sup>', '</sup>'],
};

function inlineHtml(inline: Inline[], set: Setting, linked = `color:${set.accent}`): string {
  return inline
    .map((one) => {
      if (one.kind === 'break') return '<br/>';
      if (one.kind === 'chip') return slot(chipSlot(one));
      if (one.kind === 'note') return `<sup style="font-size:12px;line-height:0">${set.notes.push(one.words)}</sup>`;
      if (one.kind !== 'text') return '';
      const words = (one.marks ?? []).reduce((text, mark) => TAGS[mark][0] + text + TAGS[mark][1], escapeHtml(one.text));
      return one.href ? `<a href="${escapeHtml(one.href)}" style="${linked}">${words}</a>` : words;
    })
    .join('');
}

const FLOW = 'margin:0 0 16px';
const HAIR = '#d8d5ca';
const SPACE = { small: 12, medium: 28, large: 56 } as const;
const SHARE = { full: 1, half: 0.5, third: 1 / 3 } as const;
const TABLE = 'cellpadding="0" cellspacing="0" border="0"';

const rowsOf = <T>(all: T[], wide: number): T[][] =>
  Array.from({ length: Math.ceil(all.length / wide) }, (_, n) => all.slice(n * wide, (n + 1) * wide));

/** Where a block stands, as the letter's direction has it. */
const side = (align: BlockLook['align'], { ltr }: Setting): 'left' | 'center' | 'right' =>
  align === 'centre' ? 'center' : (align === 'end') === ltr ? 'right' : 'left';
const aligned = (look: BlockLook | undefined, set: Setting) => (look?.align ? `;text-align:${side(look.align, set)}` : '');
/** A block's own colours; on a ground of its own it takes an ink that can be read there, in dark too. */
const inked = (look: BlockLook | undefined): { style: string; own: string } => {
  const colour = look?.colour ?? (look?.ground ? inkOn(look.ground) : '');
  // Darkness turns what stands on the sheet; a ground of a block's own keeps its ink.
  const firm = look?.ground ? '!important' : '';
  const style = `${colour ? `;color:${colour}${firm}` : ''}${look?.ground ? `;background:${look.ground}${firm};padding:10px 14px` : ''}`;
  return { style, own: look?.ground ? ' own' : '' };
};

const pictureHtml = ({ src, alt, href }: Picture, wide: number, set: Setting): string => {
  const shown = `<img src="${escapeHtml(src)}" alt="${escapeHtml(alt)}" width="${wide}" style="display:block;width:100%;max-width:${wide}px;height:auto;border:0;border-radius:${CORNERS[set.look.corners]}px"/>`;
  return href ? `<a href="${escapeHtml(href)}">${shown}</a>` : shown;
};

/** Pieces beside one another, one under the other where there is no room; old programs that know tables alone get one. */
function sideBySide(pieces: string[], set: Setting): string {
  const wide = Math.floor(set.room / pieces.length);
  const cells = pieces.map(
    (piece) =>
      `<!--[if mso]><td width="${wide}" valign="top" style="${set.base}"><![endif]--><div class="side" style="display:inline-block;width:100%;max-width:${wide}px;vertical-align:top;font-size:${set.look.size}px"><div class="side-in" style="padding:0 12px 12px 0">${piece}</div></div><!--[if mso]></td><![endif]-->`,
  );
  return `<div style="margin:0 0 8px;font-size:0"><!--[if mso]><table role="presentation" ${TABLE}><tr><![endif]-->${cells.join('')}<!--[if mso]></tr></table><![endif]--></div>`;
}

/** A ground of its own behind some nodes, with a rule before them. */
const apart = (inner: string, ground: string, rule: string, set: Setting, own = '') =>
  `<table role="presentation" width="100%" ${TABLE} style="${FLOW}"><tr><td class="apart${own}" bgcolor="${ground}" style="padding:16px 18px 2px;background:${ground}${own ? '!important' : ''};border-${set.ltr ? 'left' : 'right'}:3px solid ${rule};${set.base}${own ? `;color:${inkOn(ground)}!important` : ''}">${inner}</td></tr></table>`;

/** A button, as a table that old programs draw too. */
function buttonHtml(node: Extract<Node, { kind: 'button' | 'stay' }>, set: Setting): string {
  const look = node.kind === 'button' ? node.look : undefined;
  const colour = look?.colour ?? set.accent;
  const filled = set.look.button === 'filled';
  const ink = filled ? inkOn(colour) : colour;
  const paint = filled ? `background:${colour}` : `border:2px solid ${colour}`;
  return `<table role="presentation" width="100%" ${TABLE} style="margin:10px 0 20px"><tr><td align="${side(look?.align ?? 'start', set)}"><table role="presentation" ${TABLE}><tr><td class="act${filled ? '' : ' line'}"${filled ? ` bgcolor="${colour}"` : ''} style="${paint};border-radius:${CORNERS[set.look.corners]}px;padding:${filled ? '13px 20px' : '11px 18px'};${set.sans};font-size:15px;line-height:20px"><a href="${hrefOf(node)}" style="color:${ink};text-decoration:none;font-weight:600">${escapeHtml(node.label)}</a></td></tr></table></td></tr></table>`;
}

/** A node of running text as HTML with its styles in line. */
function flowHtml(node: Node, set: Setting): string {
  const { look, accent } = set;
  const inner = (nodes: Node[]) => nodes.map((one) => flowHtml(one, set)).join('');
  switch (node.kind) {
    case 'heading': {
      const level = Math.max(2, node.level);
      const { style, own } = inked(node.look);
      return `<h${level} class="ink${own}" style="margin:22px 0 8px;font-family:${FACES[look.headings]};font-weight:500;line-height:1.3;font-size:${look.size + (level === 2 ? 6 : 2)}px${aligned(node.look, set)}${style}">${inlineHtml(node.inline, set)}</h${level}>`;
    }
    case 'subtitle':
      return `<p class="soft" style="${FLOW};font-size:${look.size + 1}px;font-style:italic;color:${look.colours.soft}">${escapeHtml(node.text)}</p>`;
    case 'byline':
      return `<p class="soft" style="${FLOW};${set.sans};font-size:14px;line-height:20px;color:${look.colours.soft}">${escapeHtml(node.text)}</p>`;
    case 'paragraph': {
      const { style, own } = inked(node.look);
      return `<p${own ? ' class="own"' : ''} style="${FLOW}${aligned(node.look, set)}${style}">${inlineHtml(node.inline, set)}</p>`;
    }
    case 'list': {
      const tag = node.ordered ? 'ol' : 'ul';
      return `<${tag} style="${FLOW};padding-${set.ltr ? 'left' : 'right'}:26px">${node.items.map((item) => `<li style="margin:0 0 6px">${item.length === 1 && item[0]?.kind === 'paragraph' ? inlineHtml(item[0].inline, set) : inner(item)}</li>`).join('')}</${tag}>`;
    }
    case 'quote':
      return `<blockquote class="soft" style="${FLOW};padding:0 ${set.ltr ? '0 0 16px' : '16px 0 0'};border-${set.ltr ? 'left' : 'right'}:3px solid ${HAIR};color:${look.colours.soft}">${inner(node.nodes)}</blockquote>`;
    case 'pull quote': {
      const { style, own } = inked(node.look);
      return `<div class="${own.trim()}" style="margin:8px 0 24px;padding:14px 0;border-top:2px solid ${node.look?.colour ?? accent};border-bottom:1px solid ${HAIR};text-align:${side(node.look?.align ?? 'centre', set)}${style}"><p class="ink" style="margin:0;font-family:${FACES[look.headings]};font-size:${look.size + 6}px;line-height:1.4;font-style:italic">${inlineHtml(node.inline, set)}</p>${node.by ? `<p class="soft" style="margin:8px 0 0;font-size:14px;line-height:20px${own ? '' : `;color:${look.colours.soft}`}">${escapeHtml(node.by)}</p>` : ''}</div>`;
    }
    case 'call-out': {
      const own = node.look?.ground;
      return apart(inner(node.nodes), own ?? '#efece2', node.look?.colour ?? accent, set, own ? ' own' : '');
    }
    case 'columns':
      return sideBySide(
        node.columns.map((nodes) => inner(nodes)),
        set,
      );
    case 'gallery': {
      const wide = Math.floor(set.room / 2) - 12;
      return rowsOf(node.pictures, 2)
        .map((row) =>
          sideBySide(
            row.map((picture) => pictureHtml(picture, wide, set)),
            set,
          ),
        )
        .join('');
    }
    case 'card': {
      const picture = node.picture
        ? `<a href="${escapeHtml(node.href)}"><img src="${escapeHtml(node.picture)}" alt="" width="${set.room - 2}" style="display:block;width:100%;max-width:${set.room - 2}px;height:auto;border:0"/></a>`
        : '';
      return `<table role="presentation" width="100%" ${TABLE} style="margin:0 0 20px;border:1px solid ${HAIR}"><tr><td style="${set.base}">${picture}<p style="margin:12px 16px 4px;font-size:${look.size + 1}px;line-height:26px"><a href="${escapeHtml(node.href)}" style="color:${accent}">${escapeHtml(node.title || node.href)}</a></p>${node.words ? `<p class="soft" style="margin:0 16px 4px;font-size:16px;line-height:24px;color:${look.colours.soft}">${escapeHtml(node.words)}</p>` : ''}<p style="margin:0;line-height:8px">&#8202;</p></td></tr></table>`;
    }
    case 'spacer':
      return `<div style="line-height:${SPACE[node.size]}px;height:${SPACE[node.size]}px">&#8202;</div>`;
    case 'code':
      return `<pre class="apart" style="${FLOW};padding:12px;background:#efece2;color:#1c2230;font-size:14px;line-height:20px;white-space:pre-wrap;word-break:break-word">${escapeHtml(node.text)}</pre>`;
    case 'table': {
      const cell = (head: boolean, inline: Inline[]) => {
        const style = `padding:6px 10px 6px 0;border-bottom:1px solid ${HAIR};vertical-align:top;text-align:${set.ltr ? 'left' : 'right'};${set.base};font-size:16px;line-height:24px`;
        return head
          ? `<th scope="col" style="${style};font-weight:bold">${inlineHtml(inline, set)}</th>`
          : `<td style="${style}">${inlineHtml(inline, set)}</td>`;
      };
      return `<table ${TABLE} width="100%" style="width:100%;margin:0 0 16px;border-collapse:collapse">${node.rows
        .map((row) => `<tr>${row.cells.map((inline) => cell(row.head, inline)).join('')}</tr>`)
        .join('')}</table>`;
    }
    case 'picture': {
      const wide = Math.round(set.room * SHARE[node.look?.width ?? 'full']);
      const at = side(node.look?.align ?? 'start', set);
      const edges = { left: '0 auto 0 0', center: '0 auto', right: '0 0 0 auto' }[at];
      const shown = pictureHtml(node, wide, set).replace('display:block;', `display:block;margin:${edges};`);
      const beneath = (size: number, words: string) =>
        `<p class="soft" style="margin:6px 0 0;font-size:${size}px;line-height:${size + 6}px;color:${look.colours.soft};text-align:${at}">${words}</p>`;
      const caption = node.caption?.length ? beneath(14, inlineHtml(node.caption, set)) : '';
      const credit = node.credit ? beneath(12, escapeHtml(node.credit)) : '';
      return `<div style="margin:6px 0 18px;text-align:${at}">${shown}${caption}${credit}</div>`;
    }
    case 'stay':
    case 'button':
      return buttonHtml(node, set);
    case 'part':
      return `${slot(partSlot(node.segmentId, node.inside))}${inner(node.nodes)}${slot(PART_ENDS)}`;
    case 'html':
      return `<div style="${FLOW}">${cleanHtml(node.html)}</div>`;
    case 'divider':
      return `<hr style="border:0;border-top:1px solid ${node.look?.colour ?? HAIR};margin:22px 0"/>`;
    default:
      // Nothing in mail (a sign-up form), or of a later version: kept in the document, shown as nothing.
      return '';
  }
}

/** Where a button leads: an address, or a place that is filled for each reader. */
const hrefOf = (node: Extract<Node, { kind: 'button' | 'stay' }>) =>
  node.kind === 'stay' ? slot(SLOT.stay) : escapeHtml(node.href);

/** Only the first heading of level 1 is one: what a letter is called. */
function titleHtml(inline: Inline[], set: Setting): string {
  const { look } = set;
  return `<h1 class="ink" style="margin:0 0 10px;font-family:${FACES[look.headings]};font-size:${look.size + 12}px;line-height:1.27;font-weight:500;color:${look.colours.ink}">${inlineHtml(inline, set, `color:${look.colours.ink};text-decoration:none`)}</h1>`;
}

function notesHtml(set: Setting): string {
  if (set.notes.length === 0) return '';
  const rows = set.notes.map(
    (words, n) =>
      `<p class="soft" style="margin:0 0 6px;font-size:15px;line-height:23px;color:${set.look.colours.soft}"><sup style="font-size:11px;line-height:0">${n + 1}</sup> ${inlineHtml(words, set)}</p>`,
  );
  return `<hr style="border:0;border-top:1px solid ${HAIR};margin:26px 0 14px"/>${rows.join('')}`;
}

const isTitle = (node: Node): node is Extract<Node, { kind: 'heading' }> => node.kind === 'heading' && node.level === 1;

function body(nodes: Node[], set: Setting): string {
  const first = nodes.findIndex(isTitle);
  const parts = nodes.map((node, n) => (n === first && isTitle(node) ? titleHtml(node.inline, set) : flowHtml(node, set)));
  return parts.join('') + notesHtml(set);
}

/** Is a sheet dark already, so that darkness changes nothing of it? */
const isDark = (look: Look) => inkOn(look.colours.sheet) === '#fffefb';

function settingOf(frame: LetterFrame): Setting {
  const look = frame.look ?? STARTING_LOOK;
  const { size, text, colours } = look;
  return {
    look,
    accent: colours.accent || frame.brand.colour,
    room: look.width - 2 * ROOMS[look.room],
    ltr: directionOf(frame.brand.language) === 'ltr',
    base: `font-family:${FACES[text]};font-size:${size}px;line-height:${Math.round(size * 1.62)}px;color:${colours.ink}`,
    sans: `font-family:${FACES.plain}`,
    notes: [],
  };
}

/** How many bytes a block takes in a letter. */
export const bytesOf = (node: Node, frame: LetterFrame): number =>
  new TextEncoder().encode(flowHtml(node, settingOf(frame))).length;

/**
 * Renders a document once into an HTML template with slots. MJML makes the tables and the wide-and-narrow rules that mail programs need; every style that
 * the letter needs stands in line, and the style sheet says what is otherwise on phones and in the dark. The preview line stands first and hidden; the
 * colophon last: reason line, postal address, Unsubscribe.
 */
export async function renderHtml(document: Document, frame: LetterFrame): Promise<string> {
  const { brand, colophon, countsOpens } = frame;
  const set = settingOf(frame);
  const { look, ltr } = set;
  const { colours, head, foot } = look;
  const pad = ROOMS[look.room];
  const words = letterWords(brand.language);
  const soft = `color:${colours.soft}`;
  const footed = (href: string, label: string) => `<a href="${href}" style="${soft}">${escapeHtml(label)}</a>`;
  const lines = [
    ...(foot.words ? [escapeHtml(foot.words).replace(/\r?\n/g, '<br/>')] : []),
    escapeHtml(colophon.reasonLine),
    escapeHtml(colophon.postalAddress).replace(/\r?\n/g, ', '),
    ...(foot.links && brand.links?.length
      ? [brand.links.map((link) => footed(escapeHtml(link.url), link.label)).join(' · ')]
      : []),
    `${footed(slot(SLOT.choices), words.choose)} · ${footed(slot(SLOT.leave), words.unsubscribe)}`,
    ...(foot.credit ? ['Inkset'] : []),
  ].join('<br/>');
  const begins = ltr ? 'left' : 'right';
  const atHead = head.centred ? 'center' : begins;
  const atFoot = foot.centred ? 'center' : begins;
  const inside = body(document.nodes, set);
  const corner = CORNERS[look.corners];
  const dark = isDark(look)
    ? ''
    : `@media (prefers-color-scheme:dark){body,.page,.page>div{background:#14171d!important}.sheet,.sheet>table,.sheet td{background:#1b1f27!important}.sheet div,.sheet h1,.sheet h1 a,.sheet h2,.sheet h3,.sheet td,.sheet th{color:#ece8dd!important}.prose a{color:#7fc4b6!important}.prose .own a{color:inherit!important}.sheet .apart,.sheet .apart td{background:#242a35!important;color:#ece8dd!important}.soft,.soft div,.foot div,.foot a,.name div,.name a,.sheet .soft{color:#b3b1a8!important}.sheet td.act{background:#7fc4b6!important}.sheet td.act a{color:#10231f!important}.sheet td.line{background:none!important;border-color:#7fc4b6!important}.sheet td.line a{color:#7fc4b6!important}}`;
  const source = `<mjml lang="${escapeHtml(brand.language)}" dir="${directionOf(brand.language)}">
<mj-head><mj-title>${escapeHtml(brand.name)}</mj-title><mj-preview>${frame.previewLine ? lineTemplate(frame.previewLine, escapeHtml) : ''}</mj-preview>
<mj-attributes><mj-all font-family="${FACES[look.text]}" /><mj-text font-size="${look.size}px" line-height="${Math.round(look.size * 1.62)}px" color="${colours.ink}" padding="0" align="${begins}" /></mj-attributes>
<mj-raw><meta name="color-scheme" content="light dark"><meta name="supported-color-schemes" content="light dark"></mj-raw>
<mj-style>:root{color-scheme:light dark;supported-color-schemes:light dark}.prose img{max-width:100%;height:auto}
@media (max-width:480px){.side,.side img{max-width:100%!important}.side .side-in{padding-right:0!important}}
${dark}</mj-style></mj-head>
<mj-body background-color="${colours.page}" width="${look.width}px" css-class="page">
<mj-section padding="22px 0 4px"><mj-column>${
    brand.logo && head.logo
      ? `<mj-image src="${escapeHtml(brand.logo)}" alt="${escapeHtml(brand.name)}" width="64px" align="${atHead}" padding="0 ${pad}px 6px" />`
      : ''
  }${head.name ? `<mj-text css-class="name" font-size="15px" line-height="20px" color="${colours.accent || brand.colour}" align="${atHead}" padding="0 ${pad}px">${escapeHtml(brand.name)}</mj-text>` : ''}${
    head.see && frame.seen
      ? `<mj-text css-class="name" font-family="${FACES.plain}" font-size="13px" line-height="20px" color="${colours.soft}" align="${atHead}" padding="2px ${pad}px 0"><a href="${slot(SLOT.see)}" style="${soft}">${escapeHtml(words.see)}</a></mj-text>`
      : ''
  }</mj-column></mj-section>
<mj-section css-class="sheet" background-color="${colours.sheet}" border-radius="${corner}px" padding="22px ${pad}px 22px"><mj-column><mj-text css-class="prose">${inside}</mj-text></mj-column></mj-section>
<mj-section padding="16px ${pad}px 30px"><mj-column><mj-text css-class="foot" font-family="${FACES.plain}" font-size="13px" line-height="20px" color="${colours.soft}" align="${atFoot}">${lines}</mj-text></mj-column></mj-section>
${countsOpens ? `<mj-raw><img src="${slot(SLOT.pixel)}" width="1" height="1" alt="" style="display:block;border:0" /></mj-raw>` : ''}
</mj-body></mjml>`;
  const result = await mjml2html(source, { validationLevel: 'soft', keepComments: false, beautify: false });
  return unindented(result.html);
}

/** Without the indentation that only costs bytes; what stands in preformatted text stays as it is. */
const unindented = (html: string) =>
  html
    .split(/(<pre[\s\S]*?<\/pre>)/)
    .map((part) => (part.startsWith('<pre') ? part : part.replace(/^[ \t]+|[ \t]+$/gm, '').replace(/\n{2,}/g, '\n')))
    .join('');

/** A link that is not counted: to us, inside the page, or to a program other than a browser. */
const COUNTED = /^https?:\/\//i;

/**
 * Replaces each web address of a rendered template by the slot `link:N` and returns the addresses in order, after those that
 * are there already; the same address twice is the same link. Entities in attribute values are undone, so that the address is the one a browser would open.
 */
export function takeLinks(html: string, links: string[] = []): { html: string; links: string[] } {
  const out = html.replace(/(<a\b[^>]*?\bhref=)(["'])(.*?)\2/gis, (whole, before: string, quote: string, value: string) => {
    const url = value
      .replace(/&quot;/g, '"')
      .replace(/&#39;/g, "'")
      .replace(/&lt;/g, '<')
      .replace(/&gt;/g, '>')
      .replace(/&amp;/g, '&');
    if (!COUNTED.test(url)) return whole;
    let index = links.indexOf(url);
    if (index === -1) index = links.push(url) - 1;
    return `${before}${quote}${slot(`link:${index}`)}${quote}`;
  });
  return { html: out, links };
}
