import { Parser } from 'htmlparser2';
import { escapeHtml } from '../html';
import type { Document } from './document';
import { fromHtml } from './from-html';
import { shallow } from './shallow';

/*
 * HTML as it lies on a clipboard. Word processors say by styles what pages say by elements: bold is a weight, a list is paragraphs with a number before
 * them. It is rewritten into plain elements, and read like any HTML from outside.
 */

/** So much is looked at; beyond it stands nothing that anybody wrote in one sitting. */
const MOST = 12_000_000;
/** Addresses that lead nowhere but into what was copied. */
const NOWHERE = 'https://nowhere.invalid/';
const VOID = new Set('area base br col embed hr img input link meta source track wbr'.split(' '));
/** Nothing within these was written by anybody. */
const UNREAD = new Set(['style', 'script', 'xml', 'head', 'title', 'o:p', 'template', 'noscript']);

const rule = (style: string, name: string): string =>
  new RegExp(`(?:^|;)\\s*${name}\\s*:\\s*([^;]+)`, 'i').exec(style)?.[1]?.trim().toLowerCase() ?? '';

/** The elements that a style stands for. */
function meant(style: string, inLink: boolean): string[] {
  const weight = rule(style, 'font-weight');
  const line = rule(style, 'text-decoration(?:-line)?');
  const place = rule(style, 'vertical-align');
  return [
    (weight === 'bold' || weight === 'bolder' || Number(weight) >= 600) && 'b',
    /italic|oblique/.test(rule(style, 'font-style')) && 'i',
    line.includes('underline') && !inLink && 'u',
    line.includes('line-through') && 's',
    place === 'super' && 'sup',
    place === 'sub' && 'sub',
  ].filter((one): one is string => Boolean(one));
}
const isLight = (style: string) => /^(normal|[1-4]00)$/.test(rule(style, 'font-weight'));

type Open = { tag: string; close: string; unread: boolean };
type Item = { level: number; list: string; ordered: boolean };

/** The same in plain elements. One pass, without going back; never throws. */
function plainly(html: string): string {
  const out: string[] = [];
  const open: Open[] = [];
  const lists: Item[] = [];
  /** What stands before an item that is a paragraph tells whether it counts. */
  let sign: { at: number; text: string; item: Item } | null = null;
  let unread = 0;
  const endLists = (level: number) => {
    while (lists.length && lists.at(-1)!.level > level) out.push(`</li></${lists.pop()!.ordered ? 'ol' : 'ul'}>`);
  };
  const parser = new Parser(
    {
      onopentag(tag, attributes) {
        const style = attributes.style ?? '';
        // The number or the bullet itself, which the list writes anew.
        const counts = /mso-list\s*:\s*ignore/i.test(style);
        if (unread > 0 || UNREAD.has(tag) || counts) {
          if (!VOID.has(tag)) {
            unread += 1;
            open.push({ tag, close: '', unread: true });
          }
          return;
        }
        const level = tag === 'p' ? Number(/mso-list\s*:[^;]*\blevel(\d)/i.exec(style)?.[1] ?? 0) : 0;
        if (level) {
          const list = /mso-list\s*:\s*(\w+)/i.exec(style)?.[1] ?? '';
          endLists(lists.some((one) => one.list !== list) ? 0 : level);
          const item: Item = { level, list, ordered: false };
          if (lists.at(-1)?.level === level) out.push('</li><li>');
          else {
            lists.push(item);
            out.push('<ul><li>');
          }
          sign = { at: out.length - 1, text: '', item: lists.at(-1)! };
          open.push({ tag, close: '', unread: false });
          return;
        }
        if (/^(p|h[1-6]|table|ul|ol|div|blockquote|pre|hr)$/.test(tag)) endLists(0);
        if (tag === 'a') {
          const href = attributes.href ?? '';
          const leads = /^(https?:|mailto:)/i.test(href);
          if (leads) out.push(`<a href="${escapeHtml(href)}">`);
          open.push({ tag, close: leads ? '</a>' : '', unread: false });
          return;
        }
        const inLink = open.some((one) => one.tag === 'a' && one.close);
        if (tag === 'span' || tag === 'font' || ((tag === 'b' || tag === 'strong') && isLight(style))) {
          const tags = meant(style, inLink);
          out.push(tags.map((one) => `<${one}>`).join(''));
          open.push({
            tag,
            close: tags
              .map((one) => `</${one}>`)
              .reverse()
              .join(''),
            unread: false,
          });
          return;
        }
        const kept = ['src', 'alt', 'width', 'height', 'style', 'hidden', 'class'].filter(
          (name) => attributes[name] !== undefined && (tag === 'img' || name === 'class'),
        );
        out.push(`<${tag}${kept.map((name) => ` ${name}="${escapeHtml(attributes[name]!)}"`).join('')}>`);
        const tags = VOID.has(tag) || /^(table|tr|tbody|thead|ul|ol)$/.test(tag) ? [] : meant(style, inLink);
        out.push(tags.map((one) => `<${one}>`).join(''));
        if (!VOID.has(tag))
          open.push({
            tag,
            close: `${tags
              .map((one) => `</${one}>`)
              .reverse()
              .join('')}</${tag}>`,
            unread: false,
          });
      },
      ontext(text) {
        if (unread > 0) {
          if (sign && open.at(-1)?.unread) sign.text += text;
          return;
        }
        if (sign && text.trim()) {
          // 1. a) iv. count; anything else is a bullet.
          if (/^\s*\(?[0-9a-z]{1,4}[.)]/i.test(sign.text) && !sign.item.ordered && out[sign.at] === '<ul><li>') {
            sign.item.ordered = true;
            out[sign.at] = '<ol><li>';
          }
          sign = null;
        }
        out.push(escapeHtml(text));
      },
      onclosetag(tag) {
        const at = open.findLastIndex((one) => one.tag === tag);
        if (at < 0) return;
        for (const one of open.splice(at).reverse()) {
          if (one.unread) unread -= 1;
          else out.push(one.close);
        }
      },
    },
    { decodeEntities: true, lowerCaseTags: true },
  );
  parser.write(html);
  parser.end();
  endLists(0);
  return out.join('');
}

/** What was copied elsewhere, as nodes; of what stands between the marks of a fragment where there are such. */
export function fromPasted(html: string): Document {
  const whole = html.slice(0, MOST);
  const from = whole.indexOf('<!--StartFragment-->');
  const to = whole.lastIndexOf('<!--EndFragment-->');
  const fragment = from >= 0 && to > from ? whole.slice(from + 20, to) : whole;
  // Conditional comments of office programs are comments to some and marks to others; what they guard is never words.
  const bare = fragment.replace(/<!\[(?:if|endif)[^>]*>/gi, '');
  return fromHtml(plainly(shallow(bare)), NOWHERE);
}
