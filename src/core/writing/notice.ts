import { directionOf } from '../forms/words';
import { escapeHtml } from '../html';
import { CORNERS, FACES, inkOn, type Look, ROOMS, STARTING_LOOK } from './look';
import { letterWords } from './words';
import { wrapText } from './wrap';

/** A short single mail (confirmation, proof, account): some sentences, perhaps one link, a footer. */
export type Notice = {
  name: string;
  colour: string;
  heading: string;
  paragraphs: string[];
  link?: { label: string; url: string };
  /** Lines to be copied as they are, under the paragraphs. */
  exact?: string;
  footer: string[];
  /** Its language (BCP 47); English where it is not said. */
  language?: string;
};

/** What is not of a newsletter looks like this. */
const NOTICE_LOOK: Look = { ...STARTING_LOOK, width: 540 };

/**
 * A notice as HTML and as text; the link stands in full in both, since some people copy it. With a leave address it ends with Unsubscribe. With a `look`
 * it is drawn as its newsletter's letters are.
 */
export function renderNotice(notice: Notice, leaveUrl?: string, look: Look = NOTICE_LOOK): { html: string; text: string } {
  const { colours, size } = look;
  const accent = colours.accent || notice.colour;
  const sans = `font-family:${FACES.plain}`;
  const words = `font-family:${FACES[look.text]}`;
  const heads = `font-family:${FACES[look.headings]}`;
  const corner = CORNERS[look.corners];
  const pad = ROOMS[look.room];
  const paragraphs = notice.paragraphs
    .map(
      (text) =>
        `<p style="margin:0 0 16px;${words};font-size:${size - 1}px;line-height:${Math.round((size - 1) * 1.6)}px;color:${colours.ink}">${escapeHtml(text)}</p>`,
    )
    .join('');
  const exact = notice.exact
    ? `<pre style="margin:0 0 16px;font:13px/19px Menlo,Consolas,monospace;white-space:pre-wrap;word-break:break-all">${escapeHtml(notice.exact)}</pre>`
    : '';
  const paint =
    look.button === 'filled'
      ? `padding:12px 20px;background:${accent};color:${inkOn(accent)}`
      : `padding:10px 18px;border:2px solid ${accent};color:${accent}`;
  const button = notice.link
    ? `<p style="margin:22px 0"><a href="${escapeHtml(notice.link.url)}" style="display:inline-block;border-radius:${corner}px;${paint};text-decoration:none;font-weight:600;${sans};font-size:15px">${escapeHtml(
        notice.link.label,
      )}</a></p><p class="soft" style="margin:0 0 16px;${sans};font-size:13px;line-height:19px;color:${colours.soft}">If the button does not work, copy this address into your browser:<br><span style="word-break:break-all">${escapeHtml(
        notice.link.url,
      )}</span></p>`
    : '';
  const { unsubscribe } = letterWords(notice.language ?? 'en');
  const leaving = leaveUrl ? [`<a href="${escapeHtml(leaveUrl)}" style="color:${colours.soft}">${unsubscribe}</a>`] : [];
  const footer = [...notice.footer.map((line) => escapeHtml(line)), ...leaving].join('<br>');
  const dark =
    inkOn(colours.sheet) === '#fffefb'
      ? ''
      : '@media (prefers-color-scheme:dark){body{background:#14171d!important}.sheet{background:#1b1f27!important}.sheet h1,.sheet p,.sheet pre{color:#ece8dd!important}.sheet .soft,.foot,.foot a,.name{color:#b3b1a8!important}}';
  const head = look.head.centred ? ';text-align:center' : '';
  const foot = look.foot.centred ? ';text-align:center' : '';
  const html = `<!doctype html><html lang="${escapeHtml(notice.language ?? 'en')}" dir="${directionOf(notice.language ?? 'en')}"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><meta name="color-scheme" content="light dark"><meta name="supported-color-schemes" content="light dark"><style>${dark}</style><title>${escapeHtml(
    notice.heading,
  )}</title></head><body style="margin:0;background:${colours.page}"><div style="max-width:${look.width}px;margin:0 auto;padding:24px 16px"><p class="name" style="margin:0 0 10px;${words};font-size:15px;color:${
    accent
  }${head}">${escapeHtml(notice.name)}</p><div class="sheet" style="background:${colours.sheet};border-radius:${corner}px;padding:26px ${pad}px"><h1 style="margin:0 0 14px;${heads};font-weight:500;font-size:${size + 7}px;line-height:1.3;color:${colours.ink}">${escapeHtml(
    notice.heading,
  )}</h1>${paragraphs}${exact}${button}</div><p class="foot" style="${sans};font-size:13px;line-height:19px;color:${colours.soft};padding:6px 4px${foot}">${footer}</p></div></body></html>`;
  const text = [
    wrapText(notice.name),
    wrapText(notice.heading),
    ...notice.paragraphs.map((text) => wrapText(text)),
    ...(notice.exact ? [notice.exact] : []),
    ...(notice.link ? [`${notice.link.label}:\n${notice.link.url}`] : []),
    `-- \n${[...notice.footer.map((line) => wrapText(line)), ...(leaveUrl ? [`${unsubscribe}:\n${leaveUrl}`] : [])].join('\n')}`,
  ].join('\n\n');
  return { html, text: `${text}\n` };
}
