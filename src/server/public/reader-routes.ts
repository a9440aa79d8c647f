import { asFault, Fault } from '@/core/faults';
import { FORM_WORDS } from '@/core/forms/words';
import { escapeHtml } from '@/core/html';
import { isSigned } from '@/core/keys';
import { countingWords, joined, pageWords } from '@/core/readers/page-words';
import { leaveToken, readDeliveryToken, readLeaveToken } from '@/core/sending/token';
import { letterWords } from '@/core/writing/words';
import type { Context } from '../context';
import type { MarkBook } from '../delivery/marks';
import { readGift } from '../forms/arrive';
import { confirm, confirmationOf } from '../forms/confirm';
import { complete } from '../forms/forms';
import { readGiftFile } from '../newsletters/media';
import { comeBack, type Leaving, leave, leavingOf } from '../sending/leave';
import { page, SENDS_ITSELF, saying } from './page';
import { answer, type PublicAnswer, type PublicRequest, readFields, visitorOf } from './request';

const GIF = Buffer.from('R0lGODlhAQABAIAAAAAAAP///yH5BAEAAAAALAAAAAABAAEAAAIBRAA7', 'base64');

/**
 * GET /e/confirm/TOKEN says what the link is about and changes nothing, whoever fetches it: a scanner, a preview, a browser ahead of its user. POST
 * confirms; where a person's browser shows the page, it sends that by itself after a moment.
 */
export async function confirmPage(ctx: Context, request: PublicRequest, token: string): Promise<PublicAnswer> {
  try {
    const found = request.method === 'POST' ? await confirm(ctx, token, visitorOf(request)) : await confirmationOf(ctx, token);
    const { newsletter, title, words, redirect, gift, language } = found;
    if (!found.done) {
      const own = (FORM_WORDS[language] ?? FORM_WORDS.en!).confirmation;
      const asked = own.words.replace('LABEL', () => joined(found.lists, language) || newsletter.name);
      const body = `<h1>${escapeHtml(own.heading)}</h1><p>${escapeHtml(asked)}</p><form method="post"><button>${escapeHtml(own.button)}</button></form>`;
      return page({ name: newsletter.name, title: own.heading, body, language, script: SENDS_ITSELF });
    }
    if (redirect) return answer('', { status: 303, headers: { location: redirect, 'cache-control': 'no-store' } });
    const say = pageWords(language, newsletter.name);
    const sentences = (words || say.thanks).split(/\n{2,}/);
    const given = gift ? `<p><a href="${escapeHtml(gift.url)}">${escapeHtml(gift.label)}</a></p>` : '';
    const body = `<h1>${escapeHtml(title || say.onList)}</h1>${sentences.map((text) => `<p>${escapeHtml(text)}</p>`).join('')}${given}`;
    return page({ name: newsletter.name, title: title || say.onList, body, language });
  } catch (error) {
    const fault = asFault(error);
    return saying(
      'Confirmation',
      fault.code === 'expired' ? 'This link has run out' : 'This link does not work',
      fault.sentence,
      fault.status,
    );
  }
}

/** GET /e/gift/TOKEN: what a form promised, for whoever has the link and for as long as it lasts. */
export async function giftPage(ctx: Context, token: string): Promise<PublicAnswer> {
  try {
    const found = readGift(ctx, token);
    if (found === null) throw new Fault('not-found', 'A part of this link is missing. Open it from the letter again.');
    if (found === 'expired')
      throw new Fault('expired', 'This link has run out after 30 days. Answer the welcome letter, and you will be helped.');
    const row = await ctx.db
      .selectFrom('forms')
      .select(['definition', 'newsletter_id'])
      .where('id', '=', found.formId)
      .executeTakeFirst();
    const gift = row && complete(row.definition).next.gift;
    if (gift?.kind === 'link' && gift.url)
      return answer('', { status: 302, headers: { location: gift.url, 'cache-control': 'no-store' } });
    const file = row && gift?.kind === 'file' ? await readGiftFile(ctx, row.newsletter_id, gift.fileId) : null;
    if (!file) throw new Fault('not-found', 'This gift is no longer there.');
    const name = encodeURIComponent(file.name);
    return answer(file.bytes, {
      headers: {
        'content-type': 'application/octet-stream',
        'content-disposition': `attachment; filename*=UTF-8''${name}`,
        'x-content-type-options': 'nosniff',
        'cache-control': 'no-store',
      },
    });
  } catch (error) {
    const fault = asFault(error);
    return saying('Your gift', 'That did not work', fault.sentence, fault.status);
  }
}

/**
 * GET /e/leave/TOKEN shows a button; POST leaves, whether the button or a mail program sends it (RFC 8058). What goes on is named and can be left
 * too, and leaving can be taken back.
 */
export async function leavePage(ctx: Context, request: PublicRequest, token: string): Promise<PublicAnswer> {
  try {
    if (request.method !== 'POST') return asksToLeave(ctx, await leavingOf(ctx, token), token);
    const sent = await readFields(request).catch((): Record<string, string> => ({}));
    const visitor = visitorOf(request);
    if (sent.act === 'return') return hasReturned(await comeBack(ctx, token, visitor, (sent.lists ?? '').split('\n')));
    return hasLeft(ctx, await leave(ctx, token, visitor, { all: sent.act === 'all' }));
  } catch (error) {
    const fault = asFault(error);
    const sentence =
      fault.code === 'unavailable'
        ? 'This did not work on our side, and nothing was changed. Please try again in a minute.'
        : fault.sentence;
    return saying('Unsubscribe', 'That did not work', sentence, fault.status);
  }
}

const button = (label: string, act?: string, plain = false, lists: string[] = []) =>
  `<form method="post">${act ? `<input type="hidden" name="act" value="${act}">` : ''}${lists.map((id) => `<input type="hidden" name="lists" value="${id}">`).join('')}<button${plain ? ' class="plain"' : ''}>${escapeHtml(label)}</button></form>`;

const signUpAgain = (ctx: Context, { slug, language }: Leaving['newsletter']) =>
  `<p><a href="${escapeHtml(`${ctx.config.webOrigin}/at/${slug}`)}">${escapeHtml(pageWords(language, '').signUpAgain)}</a></p>`;

/** The way to choose instead of leaving, for whoever a leave link is for. */
function choosingInstead(ctx: Context, token: string, language: string): string {
  const ref = readLeaveToken(token, 'leave', ctx.config.keys);
  if (!ref) return '';
  const url = `${ctx.config.linkOrigin}/e/choices/${leaveToken(ref, 'choices', ctx.config.keys)}`;
  return `<p><a href="${escapeHtml(url)}">${escapeHtml(letterWords(language).choose)}</a></p>`;
}

function asksToLeave(ctx: Context, { newsletter, lists, goesOn, state }: Leaving, token: string): PublicAnswer {
  const { name, language } = newsletter;
  const { unsubscribe } = letterWords(language);
  if (state === 'left') {
    const say = pageWords(language, name);
    const body = `<h1>${escapeHtml(say.left)}</h1><p>${escapeHtml(say.noMore)}</p>${signUpAgain(ctx, newsletter)}`;
    return page({ name, title: say.left, body, language });
  }
  const what = joined(lists, language);
  const title = `${unsubscribe}: ${what}`;
  const more = goesOn.length
    ? `<section><p>${escapeHtml(pageWords(language, joined(goesOn, language)).also)}</p>${button(`${unsubscribe}: ${pageWords(language, '').everything}`, 'all', true)}</section>`
    : '';
  const body = `<h1>${escapeHtml(title)}</h1><p>${escapeHtml(pageWords(language, what).oneClick)}</p>${button(unsubscribe)}${more}${choosingInstead(ctx, token, language)}<p><small>${escapeHtml(countingWords(newsletter))}</small></p>`;
  return page({ name, title, body, language });
}

function hasLeft(ctx: Context, { newsletter, lists, goesOn, undo }: Leaving): PublicAnswer {
  const { name, language } = newsletter;
  const { unsubscribe } = letterWords(language);
  const say = pageWords(language, joined(lists, language) || name);
  const others = joined(goesOn, language);
  const rest = goesOn.length
    ? `<section><p>${escapeHtml(pageWords(language, others).still)}</p>${button(`${unsubscribe}: ${others}`, 'all', true)}</section>`
    : '';
  const back = undo.length
    ? `<section><p>${escapeHtml(say.slip)}</p>${button(say.takeBack, 'return', true, undo)}</section>`
    : signUpAgain(ctx, newsletter);
  const body = `<h1 role="status">${escapeHtml(say.left)}</h1><p>${escapeHtml(say.noMore)}</p>${rest}${back}`;
  return page({ name, title: say.left, body, language });
}

function hasReturned({ newsletter, lists }: Leaving): PublicAnswer {
  const { name, language } = newsletter;
  const { unsubscribe } = letterWords(language);
  const say = pageWords(language, joined(lists, language));
  const body = `<h1 role="status">${escapeHtml(say.back)}</h1><p>${escapeHtml(say.comesAgain)}</p>${button(unsubscribe, undefined, true)}`;
  return page({ name, title: say.back, body, language });
}

/** GET /e/o/TOKEN.gif: the picture that counts an open. Answered at once, whatever the token is; written in batches. */
export function openPixel(ctx: Context, request: PublicRequest, token: string, marks: MarkBook): PublicAnswer {
  const ref = readDeliveryToken(token, 'open', ctx.config.keys);
  if (ref) {
    const agent = request.headers.get('user-agent') ?? '';
    marks.add({ ref, kind: 'open', at: ctx.clock.now(), agent, network: request.client, method: request.method, link: null });
  }
  return answer(GIF, {
    headers: { 'content-type': 'image/gif', 'cache-control': 'no-store', 'content-length': String(GIF.length) },
  });
}

/**
 * GET /e/c/TOKEN/N?u=URL&s=SIGNATURE: sends the reader on and counts the click. The target stands in the link under our
 * signature, so that links work while the database is away, and nobody can make our host point elsewhere.
 */
export function followLink(ctx: Context, request: PublicRequest, token: string, position: string, marks: MarkBook): PublicAnswer {
  const query = request.url.searchParams;
  const target = query.get('u') ?? '';
  const signature = query.get('s') ?? '';
  if (!isSigned(ctx.config.keys, 'link', target, signature)) {
    return saying(
      'Link',
      'This link is not whole',
      'A part of it is missing or was changed on the way. Open it from the letter again.',
      404,
    );
  }
  const ref = readDeliveryToken(token, 'click', ctx.config.keys);
  if (ref && /^\d{1,4}$/.test(position)) {
    const agent = request.headers.get('user-agent') ?? '';
    marks.add({
      ref,
      kind: 'click',
      at: ctx.clock.now(),
      agent,
      network: request.client,
      method: request.method,
      link: Number(position),
    });
  }
  return answer('', {
    status: 302,
    headers: { location: target, 'cache-control': 'no-store', 'referrer-policy': 'no-referrer-when-downgrade' },
  });
}
