import { directionOf } from '../forms/words';
import { escapeHtml } from '../html';
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

/** A notice as HTML and as text; the link stands in full in both, since some people copy it. With a leave address it ends with Unsubscribe. */
export function renderNotice(notice: Notice, leaveUrl?: string): { html: string; text: string } {
  const sans = "font-family:'Helvetica Neue',Arial,sans-serif";
  const serif = "font-family:Georgia,'Times New Roman',serif";
  const paragraphs = notice.paragraphs
    .map((text) => `<p style="margin:0 0 16px;${serif};font-size:17px;line-height:27px;color:#1c2230">${escapeHtml(text)}</p>`)
    .join('');
  const exact = notice.exact
    ? `<pre style="margin:0 0 16px;font:13px/19px Menlo,Consolas,monospace;white-space:pre-wrap;word-break:break-all">${escapeHtml(notice.exact)}</pre>`
    : '';
  const button = notice.link
    ? `<p style="margin:22px 0"><a href="${escapeHtml(notice.link.url)}" style="display:inline-block;padding:12px 20px;border-radius:4px;background:${
        notice.colour
      };color:#fffefb;text-decoration:none;font-weight:600;${sans};font-size:15px">${escapeHtml(
        notice.link.label,
      )}</a></p><p class="soft" style="margin:0 0 16px;${sans};font-size:13px;line-height:19px;color:#525a69">If the button does not work, copy this address into your browser:<br><span style="word-break:break-all">${escapeHtml(
        notice.link.url,
      )}</span></p>`
    : '';
  const { unsubscribe } = letterWords(notice.language ?? 'en');
  const leaving = leaveUrl ? [`<a href="${escapeHtml(leaveUrl)}" style="color:#525a69">${unsubscribe}</a>`] : [];
  const footer = [...notice.footer.map((line) => escapeHtml(line)), ...leaving].join('<br>');
  const html = `<!doctype html><html lang="${escapeHtml(notice.language ?? 'en')}" dir="${directionOf(notice.language ?? 'en')}"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><meta name="color-scheme" content="light dark"><meta name="supported-color-schemes" content="light dark"><style>@media (prefers-color-scheme:dark){body{background:#14171d!important}.sheet{background:#1b1f27!important}.sheet h1,.sheet p,.sheet pre{color:#ece8dd!important}.sheet .soft,.foot,.foot a,.name{color:#b3b1a8!important}}</style><title>${escapeHtml(
    notice.heading,
  )}</title></head><body style="margin:0;background:#f6f5f0"><div style="max-width:560px;margin:0 auto;padding:24px 16px"><p class="name" style="margin:0 0 10px;${serif};font-size:15px;color:${
    notice.colour
  }">${escapeHtml(notice.name)}</p><div class="sheet" style="background:#fffefb;border-radius:6px;padding:26px"><h1 style="margin:0 0 14px;${serif};font-weight:500;font-size:25px;line-height:32px;color:#1c2230">${escapeHtml(
    notice.heading,
  )}</h1>${paragraphs}${exact}${button}</div><p class="foot" style="${sans};font-size:13px;line-height:19px;color:#525a69;padding:6px 4px">${footer}</p></div></body></html>`;
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
