import mjml2html from 'mjml';
import { directionOf } from '../forms/words';
import { escapeHtml } from '../html';
import type { Document, Inline, Mark, Node } from './document';
import { SLOT, slot } from './slots';
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
  previewLine: string /** Carries a picture that counts openings. */;
  countsOpens: boolean;
};

const SERIF = "Georgia, 'Times New Roman', serif";
const SANS = "'Helvetica Neue', Arial, sans-serif";

const TAGS: Record<Mark, [string, string]> = {
  bold: ['<strong>', '</strong>'],
  italic: ['<em>', '</em>'],
  underline: ['<u>', '</u>'],
  strike: ['<s>', '</s>'],
  code: ['<code style="font-family:monospace;font-size:15px">', '</code>'],
  sub: ['<sub>', '</sub>'],
  sup: ['<sup>', '</sup>'],
};

function inlineHtml(inline: Inline[], colour: string, linked = `color:${colour}`): string {
  return inline
    .map((one) => {
      if (one.kind === 'break') return '<br/>';
      if (one.kind === 'chip') return slot(`chip:${one.field}`);
      const words = (one.marks ?? []).reduce((text, mark) => TAGS[mark][0] + text + TAGS[mark][1], escapeHtml(one.text));
      return one.href ? `<a href="${escapeHtml(one.href)}" style="${linked}">${words}</a>` : words;
    })
    .join('');
}

const FLOW = 'margin:0 0 16px';
/** A node of running text as HTML with its styles in line. */
function flowHtml(node: Node, colour: string): string {
  const inner = (nodes: Node[]) => nodes.map((one) => flowHtml(one, colour)).join('');
  switch (node.kind) {
    case 'heading': {
      const level = Math.max(2, node.level);
      return `<h${level} style="margin:22px 0 8px;font-weight:500;line-height:1.3;font-size:${level === 2 ? 24 : 20}px">${inlineHtml(node.inline, colour)}</h${level}>`;
    }
    case 'subtitle':
      return `<p class="soft" style="margin:0 0 16px;font-size:19px;font-style:italic;color:#525a69">${escapeHtml(node.text)}</p>`;
    case 'paragraph':
      return `<p style="${FLOW}">${inlineHtml(node.inline, colour)}</p>`;
    case 'list': {
      const tag = node.ordered ? 'ol' : 'ul';
      return `<${tag} style="${FLOW};padding-left:26px">${node.items.map((item) => `<li style="margin:0 0 6px">${item.length === 1 && item[0]?.kind === 'paragraph' ? inlineHtml(item[0].inline, colour) : inner(item)}</li>`).join('')}</${tag}>`;
    }
    case 'quote':
      return `<blockquote class="soft" style="margin:0 0 16px;padding:0 0 0 16px;border-left:3px solid #d8d5ca;color:#525a69">${inner(node.nodes)}</blockquote>`;
    case 'code':
      return `<pre style="${FLOW};padding:12px;background:#efece2;color:#1c2230;font-size:14px;line-height:20px;white-space:pre-wrap;word-break:break-word">${escapeHtml(node.text)}</pre>`;
    case 'table':
      return `<table role="presentation" cellpadding="0" cellspacing="0" style="width:100%;margin:0 0 16px;border-collapse:collapse;font-size:16px;line-height:24px">${node.rows
        .map(
          (row) =>
            `<tr>${row.cells.map((cell) => `<td style="padding:6px 10px 6px 0;border-bottom:1px solid #d8d5ca;vertical-align:top${row.head ? ';font-weight:bold' : ''}">${inlineHtml(cell, colour)}</td>`).join('')}</tr>`,
        )
        .join('')}</table>`;
    case 'picture':
      return `<img src="${escapeHtml(node.src)}" alt="${escapeHtml(node.alt)}" style="max-width:100%;height:auto;border-radius:4px"/>`;
    case 'button':
      return `<p style="${FLOW}"><a href="${escapeHtml(node.href)}" style="color:${colour}">${escapeHtml(node.label)}</a></p>`;
    case 'divider':
      return '<hr style="border:0;border-top:1px solid #d8d5ca;margin:14px 0"/>';
    default:
      // Of a later version: kept in the document, shown as nothing.
      return '';
  }
}

const isFlow = (node: Node) =>
  !['picture', 'button', 'divider'].includes(node.kind) && !(node.kind === 'heading' && node.level === 1);

/** Nodes as MJML: what flows together as one text, what stands by itself as its own component. Only the first heading of level 1 is one. */
function body(nodes: Node[], colour: string): string {
  const out: string[] = [];
  let flow: Node[] = [];
  let titled = false;
  const flush = () => {
    if (flow.length) out.push(`<mj-text css-class="prose">${flow.map((node) => flowHtml(node, colour)).join('')}</mj-text>`);
    flow = [];
  };
  for (const node of nodes) {
    const title: boolean = node.kind === 'heading' && node.level === 1 && !titled;
    if (!title && (isFlow(node) || node.kind === 'heading')) {
      flow.push(node);
      continue;
    }
    flush();
    if (node.kind === 'heading') {
      titled = true;
      out.push(
        `<mj-text padding="8px 0 10px"><h1 class="ink" style="margin:0;font-size:30px;line-height:38px;font-weight:500">${inlineHtml(node.inline, colour, 'color:#1c2230;text-decoration:none')}</h1></mj-text>`,
      );
    } else if (node.kind === 'picture') {
      out.push(
        `<mj-image src="${escapeHtml(node.src)}" alt="${escapeHtml(node.alt)}"${node.href ? ` href="${escapeHtml(node.href)}"` : ''} padding="6px 0 14px" border-radius="4px" />`,
      );
      if (node.caption?.length)
        out.push(
          `<mj-text css-class="soft" font-size="14px" line-height="20px" color="#525a69" padding="0 0 14px">${inlineHtml(node.caption, colour)}</mj-text>`,
        );
    } else if (node.kind === 'button') {
      out.push(
        `<mj-button css-class="act" href="${escapeHtml(node.href)}" align="left" padding="14px 0">${escapeHtml(node.label)}</mj-button>`,
      );
    } else if (node.kind === 'divider') out.push('<mj-divider border-width="1px" border-color="#d8d5ca" padding="14px 0" />');
  }
  flush();
  return out.join('\n');
}

/**
 * Renders a document once into an HTML template with slots. MJML makes the tables and the wide-and-narrow rules that mail
 * programs need. The preview line stands first and hidden; the colophon last: reason line, postal address, Unsubscribe.
 */
export async function renderHtml(document: Document, frame: LetterFrame): Promise<string> {
  const { brand, colophon, countsOpens } = frame;
  const foot = [
    escapeHtml(colophon.reasonLine),
    escapeHtml(colophon.postalAddress).replace(/\r?\n/g, ', '),
    ...(brand.links?.length
      ? [
          brand.links
            .map((link) => `<a href="${escapeHtml(link.url)}" style="color:#525a69">${escapeHtml(link.label)}</a>`)
            .join(' · '),
        ]
      : []),
    `<a href="${slot(SLOT.choices)}" style="color:#525a69">${escapeHtml(letterWords(brand.language).choose)}</a> · <a href="${slot(SLOT.leave)}" style="color:#525a69">${escapeHtml(letterWords(brand.language).unsubscribe)}</a>`,
  ].join('<br/>');
  const source = `<mjml lang="${escapeHtml(brand.language)}" dir="${directionOf(brand.language)}">
<mj-head><mj-title>${escapeHtml(brand.name)}</mj-title><mj-preview>${escapeHtml(frame.previewLine)}</mj-preview>
<mj-attributes><mj-all font-family="${SERIF}" /><mj-text font-size="18px" line-height="29px" color="#1c2230" padding="0 0 4px" />
<mj-button background-color="${brand.colour}" color="#fffefb" font-family="${SANS}" font-size="15px" font-weight="600" border-radius="4px" inner-padding="12px 18px" /></mj-attributes>
<mj-raw position="file-start"></mj-raw>
<mj-raw><meta name="color-scheme" content="light dark"><meta name="supported-color-schemes" content="light dark"></mj-raw>
<mj-style>:root{color-scheme:light dark;supported-color-schemes:light dark}.prose img{max-width:100%;height:auto}
@media (prefers-color-scheme:dark){body,.page{background:#14171d!important}.sheet,.sheet>table{background:#1b1f27!important}.sheet div,.sheet h1,.sheet h1 a,.sheet h2,.sheet h3,.sheet td{color:#ece8dd!important}.prose a{color:#7fc4b6!important}.soft,.soft div,.foot div,.foot a,.name div{color:#b3b1a8!important}.act a{color:#fffefb!important}}</mj-style></mj-head>
<mj-body background-color="#f6f5f0" width="640px" css-class="page">
<mj-section padding="22px 0 4px"><mj-column>${
    brand.logo
      ? `<mj-image src="${escapeHtml(brand.logo)}" alt="${escapeHtml(brand.name)}" width="64px" align="left" padding="0 32px 6px" />`
      : ''
  }<mj-text css-class="name" font-size="15px" line-height="20px" color="${brand.colour}" padding="0 32px">${escapeHtml(brand.name)}</mj-text></mj-column></mj-section>
<mj-section css-class="sheet" background-color="#fffefb" border-radius="6px" padding="18px 32px 22px"><mj-column>${body(document.nodes, brand.colour)}</mj-column></mj-section>
<mj-section padding="16px 32px 30px"><mj-column><mj-text css-class="foot" font-family="${SANS}" font-size="13px" line-height="20px" color="#525a69">${foot}</mj-text></mj-column></mj-section>
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
 * Replaces each web address of a rendered template by the slot `link:N` and returns the addresses in order; the same address
 * twice is the same link. Entities in attribute values are undone, so that the address is the one a browser would open.
 */
export function takeLinks(html: string): { html: string; links: string[] } {
  const links: string[] = [];
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
