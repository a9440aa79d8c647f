import type { Rhythm } from '@/core/autosend/rhythm';
import { asFault, Fault } from '@/core/faults';
import { FORM_WORDS } from '@/core/forms/words';
import { escapeHtml } from '@/core/html';
import { choiceWords } from '@/core/readers/choice-words';
import { countingWords, pageWords } from '@/core/readers/page-words';
import { letterWords } from '@/core/writing/words';
import type { Context } from '../context';
import { askForOwn, type Choices, choicesOf, keepChoices, PAUSES, pause, stay, staying } from '../keeping/choices';
import { askToMove, changeOwn, eraseOwn, move, moving, type Own, ownData, ownOf } from '../keeping/own';
import { leave } from '../sending/leave';
import { page, saying } from './page';
import { answer, type PublicAnswer, type PublicRequest, readFields, visitorOf } from './request';

/*
 * Pages on which readers choose and see for themselves. They need no script and no sign-in; whatever changes something is a POST, so that no scanner that
 * fetches links changes anything.
 */

const hidden = (act: string) => `<input type="hidden" name="act" value="${act}">`;
const field = (name: string, label: string, value: string, more = '') =>
  `<p><label>${escapeHtml(label)}<br><input name="${escapeHtml(name)}" value="${escapeHtml(value)}"${more}></label></p>`;

/** Runs the work of a page; what goes wrong is said on a page too. */
async function shown(title: string, work: () => Promise<PublicAnswer>): Promise<PublicAnswer> {
  try {
    return await work();
  } catch (error) {
    const fault = asFault(error);
    return saying(title, fault.code === 'expired' ? 'This link has run out' : 'That did not work', fault.sentence, fault.status);
  }
}

/** GET and POST /e/choices/TOKEN, from every letter: which lists, in what form, a pause, leaving all of it. */
export const choicesPage = (ctx: Context, request: PublicRequest, token: string): Promise<PublicAnswer> =>
  shown('Letters', async () => {
    if (request.method !== 'POST') return choosing(await choicesOf(ctx, token));
    const sent = await readFields(request);
    const visitor = visitorOf(request);
    switch (sent.act) {
      case 'keep': {
        const kept = await keepChoices(ctx, token, visitor, {
          lists: (sent.lists ?? '').split('\n').filter(Boolean),
          textAlone: sent.text === 'alone',
          rhythms: Object.fromEntries(
            Object.entries(sent).flatMap(([name, value]) => (name.startsWith('rhythm-') ? [[name.slice(7), value]] : [])),
          ),
        });
        return choosing(kept, choiceWords(kept.newsletter.language).kept);
      }
      case 'pause':
        return choosing(await pause(ctx, token, visitor, sent.how ?? ''));
      case 'leave': {
        const { newsletter, lists } = await leave(ctx, token, visitor, { purpose: 'choices', all: true, reason: sent.why ?? '' });
        const say = pageWords(newsletter.language, lists.join(', ') || newsletter.name);
        return page({
          name: newsletter.name,
          title: say.left,
          language: newsletter.language,
          body: `<h1 role="status">${escapeHtml(say.left)}</h1><p>${escapeHtml(say.noMore)}</p>`,
        });
      }
      case 'own': {
        const { newsletter, hint } = await askForOwn(ctx, token);
        const words = choiceWords(newsletter.language, hint);
        return page({
          name: newsletter.name,
          title: words.own,
          language: newsletter.language,
          body: `<h1>${escapeHtml(words.own)}</h1><p role="status">${escapeHtml(words.ownSent)}</p>`,
        });
      }
      default:
        throw new Fault('invalid', 'This could not be read.');
    }
  });

/** How often the posts of a rule come, as one of some. */
function rhythmChoice({ id, name, chosen, offered }: Choices['rhythms'][number], language: string): string {
  const options = offered.map(
    ({ lane, rhythm }) =>
      `<p><label class="tick"><input type="radio" name="rhythm-${id}" value="${lane}"${lane === chosen ? ' checked' : ''}> <span>${escapeHtml(rhythmSaid(rhythm, language))}</span></label></p>`,
  );
  return `<fieldset><legend>${escapeHtml(choiceWords(language, name).rhythm)}</legend>${options.join('')}</fieldset>`;
}

/** A rhythm in the newsletter's language; one that is neither daily nor weekly is as it usually comes. */
function rhythmSaid(rhythm: Rhythm, language: string): string {
  if (rhythm.kind === 'each') return choiceWords(language).eachPost;
  if (rhythm.kind !== 'days') return choiceWords(language).asUsual;
  if (rhythm.days.length === 7) return choiceWords(language, rhythm.hour).everyDay;
  if (rhythm.days.length > 1) return choiceWords(language).asUsual;
  // 1 January 2024 was a Monday.
  const day = new Intl.DateTimeFormat(language, { weekday: 'long', timeZone: 'UTC' }).format(
    new Date(Date.UTC(2024, 0, rhythm.days[0]!)),
  );
  return choiceWords(language, `${day}, ${rhythm.hour}`).everyWeek;
}

function choosing(found: Choices, said = ''): PublicAnswer {
  const { newsletter, lists, hint, pausedUntil, textAlone, rhythms, suppressed } = found;
  const { language, name } = newsletter;
  const words = choiceWords(language, hint);
  const { unsubscribe } = letterWords(language);
  const boxes = lists.map(
    (list) =>
      `<p><label class="tick"><input type="checkbox" name="lists" value="${list.id}"${list.state === 'reading' || list.state === 'waiting' ? ' checked' : ''}> <span>${escapeHtml(list.name)}${list.description ? `<br><small>${escapeHtml(list.description)}</small>` : ''}</span></label></p>`,
  );
  const pauses = (Object.keys(PAUSES) as (keyof typeof PAUSES)[])
    .map((how) => `<button class="plain" name="how" value="${how}">${escapeHtml(words[how])}</button>`)
    .join(' ');
  const parts = suppressed
    ? [`<p role="status">${escapeHtml(words.gone)}</p>`]
    : [
        said ? `<p role="status"><b>${escapeHtml(said)}</b></p>` : '',
        `<form method="post">${hidden('keep')}<fieldset><legend>${escapeHtml(words.which)}</legend>${boxes.join('')}</fieldset><p><label class="tick"><input type="checkbox" name="text" value="alone"${textAlone ? ' checked' : ''}> <span>${escapeHtml(words.text)}</span></label></p>${rhythms.map((rule) => rhythmChoice(rule, language)).join('')}<button>${escapeHtml(words.keep)}</button></form>`,
        `<section><h2>${escapeHtml(words.pause)}</h2><form method="post">${hidden('pause')}${
          pausedUntil
            ? `<p role="status">${escapeHtml(choiceWords(language, pausedUntil).paused)}</p><button class="plain" name="how" value="end">${escapeHtml(words.goOn)}</button>`
            : `<p>${escapeHtml(words.pauseFor)}</p>${pauses}`
        }</form></section>`,
        `<section><h2>${escapeHtml(`${unsubscribe}: ${pageWords(language, '').everything}`)}</h2><form method="post">${hidden('leave')}<p><label>${escapeHtml(words.why)}<br><textarea name="why" rows="2" maxlength="1000"></textarea></label></p><button class="plain">${escapeHtml(unsubscribe)}</button></form></section>`,
      ];
  const own = `<section><h2>${escapeHtml(words.own)}</h2><p>${escapeHtml(words.ownWords)}</p><form method="post">${hidden('own')}<button class="plain">${escapeHtml(words.ownSend)}</button></form></section>`;
  const body = `<h1>${escapeHtml(words.title)}</h1>${parts.join('')}${own}<p><small>${escapeHtml(countingWords(newsletter))}</small></p>`;
  return page({ name, title: words.title, body, language });
}

/** GET and POST /e/own/TOKEN, mailed to whom it is about and good for a day: what is kept of them, to be seen, changed, moved and erased. */
export const ownPage = (ctx: Context, request: PublicRequest, token: string, more: string): Promise<PublicAnswer> =>
  shown('What is kept of you', async () => {
    if (more === 'data.json') {
      if (request.method === 'POST') throw new Fault('invalid', 'This could not be read.');
      return answer(JSON.stringify(await ownData(ctx, token), null, 2), {
        headers: {
          'content-type': 'application/json; charset=utf-8',
          'content-disposition': 'attachment; filename="kept-of-me.json"',
          'cache-control': 'no-store',
          'x-content-type-options': 'nosniff',
        },
      });
    }
    const owned = async (own: Own, said?: string) => owning(own, token, await ownData(ctx, token), said);
    if (request.method !== 'POST') return owned(await ownOf(ctx, token));
    const sent = await readFields(request);
    switch (sent.act) {
      case 'keep': {
        const own = await changeOwn(ctx, token, sent);
        return owned(own, choiceWords(own.newsletter.language).kept);
      }
      case 'move': {
        const { own, address } = await askToMove(ctx, token, { address: sent.address ?? '' });
        return owned(own, choiceWords(own.newsletter.language, address).moveAsked);
      }
      case 'erase': {
        if (sent.sure !== 'yes') return owned(await ownOf(ctx, token));
        const { name, language } = await eraseOwn(ctx, token);
        const { erased } = choiceWords(language, name);
        return page({ name, title: erased, language, body: `<h1 role="status">${escapeHtml(erased)}</h1>` });
      }
      default:
        throw new Fault('invalid', 'This could not be read.');
    }
  });

function owning({ newsletter, address, firstName, answers }: Own, token: string, data: object, said = ''): PublicAnswer {
  const { language, name } = newsletter;
  const words = choiceWords(language, name);
  const form = FORM_WORDS[language.split('-')[0] ?? ''] ?? FORM_WORDS.en!;
  const questions = answers.map((one) => question(one)).join('');
  const body = `<h1>${escapeHtml(words.ownHeld)}</h1>${said ? `<p role="status"><b>${escapeHtml(said)}</b></p>` : ''}<p>${escapeHtml(address)}</p>
    <form method="post">${hidden('keep')}${field('firstName', form.firstName, firstName, ' autocomplete="given-name" maxlength="80"')}${questions}<button>${escapeHtml(words.keep)}</button></form>
    <details><summary>${escapeHtml(words.own)}</summary><pre dir="ltr">${escapeHtml(JSON.stringify(data, null, 2))}</pre></details>
    <p><a href="${escapeHtml(token)}/data.json" download>${escapeHtml(words.file)}</a></p>
    <section><h2>${escapeHtml(words.newAddress)}</h2><form method="post">${hidden('move')}${field('address', words.newAddress, '', ' type="email" autocomplete="email" required')}<button class="plain">${escapeHtml(words.move)}</button></form></section>
    <section><h2>${escapeHtml(words.erase)}</h2><p>${escapeHtml(words.eraseWords)}</p><form method="post">${hidden('erase')}<p><label class="tick"><input type="checkbox" name="sure" value="yes" required> <span>${escapeHtml(words.sure)}</span></label></p><button class="plain">${escapeHtml(words.erase)}</button></form></section>`;
  return page({ name, title: words.ownHeld, body, language });
}

function question({ id, label, kind, options, value }: Own['answers'][number]): string {
  const name = `field ${id}`;
  const chosen = Array.isArray(value) ? value : [];
  if (kind === 'several choices')
    return `<fieldset><legend>${escapeHtml(label)}</legend>${options.map((option) => `<p><label class="tick"><input type="checkbox" name="${name}" value="${escapeHtml(option)}"${chosen.includes(option) ? ' checked' : ''}> <span>${escapeHtml(option)}</span></label></p>`).join('')}</fieldset>`;
  if (kind === 'choice' || kind === 'yes/no') {
    const all =
      kind === 'choice'
        ? options.map((option) => [option, option])
        : [
            ['yes', '✓'],
            ['no', '✗'],
          ];
    const now = kind === 'choice' ? String(value ?? '') : value === null ? '' : value ? 'yes' : 'no';
    return `<p><label>${escapeHtml(label)}<br><select name="${name}"><option value=""></option>${all.map(([of, text]) => `<option value="${escapeHtml(of!)}"${of === now ? ' selected' : ''}>${escapeHtml(text!)}</option>`).join('')}</select></label></p>`;
  }
  if (kind === 'long text')
    return `<p><label>${escapeHtml(label)}<br><textarea name="${name}" rows="3">${escapeHtml(String(value ?? ''))}</textarea></label></p>`;
  const type = { number: 'number', date: 'date', 'date and time': 'datetime-local', phone: 'tel', text: 'text' }[kind];
  return field(name, label, String(value ?? ''), ` type="${type}"${kind === 'number' ? ' step="any"' : ''}`);
}

/** GET and POST /e/stay/TOKEN, from a last question: whoever presses the button goes on reading. */
export const stayPage = (ctx: Context, request: PublicRequest, token: string): Promise<PublicAnswer> =>
  shown('Letters', async () => {
    const done = request.method === 'POST';
    const { newsletter } = done ? await stay(ctx, token, visitorOf(request)) : await staying(ctx, token);
    const words = choiceWords(newsletter.language, newsletter.name);
    const body = done
      ? `<h1 role="status">${escapeHtml(words.stayDone)}</h1>`
      : `<h1>${escapeHtml(words.stay)}</h1><form method="post"><button>${escapeHtml(words.stayYes)}</button></form>`;
    return page({ name: newsletter.name, title: done ? words.stayDone : words.stay, body, language: newsletter.language });
  });

/** GET and POST /e/move/TOKEN, mailed to a new address: letters go there once its owner has pressed the button. */
export const movePage = (ctx: Context, request: PublicRequest, token: string): Promise<PublicAnswer> =>
  shown('New address', async () => {
    const done = request.method === 'POST';
    const { newsletter, address } = done ? await move(ctx, token, visitorOf(request)) : await moving(ctx, token);
    const words = choiceWords(newsletter.language, address);
    const body = done
      ? `<h1 role="status">${escapeHtml(words.moved)}</h1>`
      : `<h1>${escapeHtml(words.move)}</h1><p>${escapeHtml(words.moveMail)}</p><p>${escapeHtml(address)}</p><form method="post"><button>${escapeHtml(words.move)}</button></form>`;
    return page({ name: newsletter.name, title: done ? words.moved : words.move, body, language: newsletter.language });
  });
