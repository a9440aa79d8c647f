import mjml2html from 'mjml';
import { escapeHtml } from '../html';
import type { Block, Document } from './document';
import { slot } from './slots';

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
export type LetterFrame = { brand: Brand; colophon: Colophon; previewLine: string };

/** The slots that every letter has, beside `link:N` for each address in it. */
export const SLOT = { leave: 'leave', pixel: 'pixel', choices: 'choices' } as const;

const SERIF = "Georgia, 'Times New Roman', serif";
const SANS = "'Helvetica Neue', Arial, sans-serif";

function blockMjml(block: Block): string {
  switch (block.kind) {
    case 'heading': {
      const words = escapeHtml(block.text);
      const inner = block.href
        ? `<a href="${escapeHtml(block.href)}" style="color:#1c2230;text-decoration:none">${words}</a>`
        : words;
      return `<mj-text font-family="${SERIF}" font-size="30px" line-height="38px" padding="8px 0 10px"><h1 style="margin:0;font-size:30px;line-height:38px;font-weight:500">${inner}</h1></mj-text>`;
    }
    case 'subtitle':
      return `<mj-text font-size="19px" line-height="28px" color="#525a69" font-style="italic" padding="0 0 12px">${escapeHtml(block.text)}</mj-text>`;
    case 'text':
      return `<mj-text css-class="prose">${block.html}</mj-text>`;
    case 'picture':
      return `<mj-image src="${escapeHtml(block.src)}" alt="${escapeHtml(block.alt)}"${
        block.href ? ` href="${escapeHtml(block.href)}"` : ''
      } padding="6px 0 14px" border-radius="4px" />`;
    case 'button':
      return `<mj-button href="${escapeHtml(block.href)}" align="left" padding="14px 0">${escapeHtml(block.label)}</mj-button>`;
    case 'divider':
      return '<mj-divider border-width="1px" border-color="#d8d5ca" padding="14px 0" />';
  }
}

/**
 * Renders a document once into an HTML template with slots. MJML makes the tables and the wide-and-narrow rules that mail
 * programs need. The preview line stands first and hidden; the colophon last: reason line, postal address, leave link.
 */
export async function renderHtml(document: Document, frame: LetterFrame): Promise<string> {
  const { brand, colophon } = frame;
  const source = `<mjml lang="${escapeHtml(brand.language)}">
<mj-head><mj-title>${escapeHtml(brand.name)}</mj-title><mj-preview>${escapeHtml(frame.previewLine)}</mj-preview>
<mj-attributes><mj-all font-family="${SERIF}" /><mj-text font-size="18px" line-height="29px" color="#1c2230" padding="0 0 4px" />
<mj-button background-color="${brand.colour}" color="#fffefb" font-family="${SANS}" font-size="15px" font-weight="600" border-radius="4px" inner-padding="12px 18px" /></mj-attributes>
<mj-style>.prose p{margin:0 0 16px}.prose h2,.prose h3{font-weight:500;line-height:1.3;margin:22px 0 8px}.prose img{max-width:100%;height:auto;border-radius:4px}.prose blockquote{margin:0 0 16px;padding:0 0 0 16px;border-left:3px solid #d8d5ca;color:#525a69}.prose a{color:${brand.colour}}.foot a{color:#525a69}</mj-style></mj-head>
<mj-body background-color="#f6f5f0" width="640px">
<mj-section padding="22px 0 4px"><mj-column>${
    brand.logo
      ? `<mj-image src="${escapeHtml(brand.logo)}" alt="${escapeHtml(brand.name)}" width="64px" align="left" padding="0 32px 6px" />`
      : ''
  }<mj-text font-size="15px" line-height="20px" color="${brand.colour}" padding="0 32px">${escapeHtml(brand.name)}</mj-text></mj-column></mj-section>
<mj-section background-color="#fffefb" border-radius="6px" padding="18px 32px 22px"><mj-column>${document.blocks.map(blockMjml).join('\n')}</mj-column></mj-section>
<mj-section padding="16px 32px 30px"><mj-column><mj-text css-class="foot" font-family="${SANS}" font-size="13px" line-height="20px" color="#525a69">${escapeHtml(
    colophon.reasonLine,
  )}<br/>${escapeHtml(colophon.postalAddress).replace(/\r?\n/g, ', ')}${brand.links?.length ? `<br/>${brand.links.map((link) => `<a href="${escapeHtml(link.url)}">${escapeHtml(link.label)}</a>`).join(' · ')}` : ''}<br/><a href="${slot(SLOT.leave)}">Leave this list</a></mj-text></mj-column></mj-section>
<mj-raw><img src="${slot(SLOT.pixel)}" width="1" height="1" alt="" style="display:block;border:0" /></mj-raw>
</mj-body></mjml>`;
  const result = await mjml2html(source, { validationLevel: 'soft', keepComments: false, beautify: false });
  return result.html;
}

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
