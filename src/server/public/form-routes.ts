import { createHash } from 'node:crypto';
import { readFileSync } from 'node:fs';
import { join as joinPath } from 'node:path';
import { asFault, Fault } from '@/core/faults';
import type { FormDefinition } from '@/core/forms/definition';
import { formCss } from '@/core/forms/look';
import { isOver, shapeOf } from '@/core/forms/placement';
import { formHtml, scriptHtml, thanksHtml } from '@/core/forms/render';
import { standCss, standing } from '@/core/forms/stand';
import { wordsOf } from '@/core/forms/words';
import { escapeHtml } from '@/core/html';
import { parseAddress } from '@/core/readers/address';
import type { Context } from '../context';
import type { FormBook } from '../forms/counts';
import type { PublicForm } from '../forms/forms';
import { type WantedProof, wantProof } from '../forms/proof';
import { closed, type SignUps } from '../forms/sign-ups';
import { stamp } from '../forms/stamp';
import { takeTrial } from '../forms/trials';
import { readersShown } from '../readers/shown';
import { json, page, saying } from './page';
import { answer, type PublicAnswer, type PublicRequest, readFields, visitorOf } from './request';

const CORS = { 'access-control-allow-origin': '*' };

const load = async (publicId: string, find: (publicId: string) => Promise<PublicForm | null>): Promise<PublicForm> => {
  const form = /^[0-9a-f]{12}$/.test(publicId) ? await find(publicId) : null;
  if (!form) throw new Fault('not-found', 'This form is no longer there.');
  if (form.archivedAt) throw closed(form);
  return form;
};

const action = (ctx: Context, form: PublicForm) => `${ctx.config.linkOrigin}/e/form/${form.publicId}`;

/** Tells the page around a frame how high the form is, so that nothing is cut off and nothing scrolls. The one script a frame has. */
const FRAME_SCRIPT =
  "new ResizeObserver(function(){parent.postMessage({inkset:location.pathname,height:Math.ceil(document.documentElement.getBoundingClientRect().height)},'*')}).observe(document.documentElement)";

type Around = { ctx: Context; request: PublicRequest; form: PublicForm; definition: FormDefinition };

/**
 * A form, or what stands in its place, in somebody's frame; opened by itself it is a page of its newsletter's, with its name and postal address. A
 * browser says which of the two it asks for (Fetch Metadata); one that does not gets what stands in a frame.
 */
function around({ ctx, request, form, definition }: Around, body: string, status = 200, script = ''): PublicAnswer {
  const { newsletter } = form;
  const own = request.headers.get('sec-fetch-dest') === 'document';
  const style = `<style>${formCss(definition.look, shapeOf(definition.placement.kind))}</style>`;
  const address = newsletter.postal_address.replace(/\r?\n/g, ', ');
  return page({
    name: newsletter.name,
    title: own ? `${definition.heading}, ${newsletter.name}` : definition.heading,
    bare: !own,
    ...(own ? { home: `${ctx.config.webOrigin}/at/${newsletter.slug}` } : {}),
    status,
    language: definition.language,
    script: own ? script : `${FRAME_SCRIPT};${script}`,
    body: own ? `${style}${body}<footer><small>${escapeHtml(address)}</small></footer>` : `${style}<main>${body}</main>`,
  });
}

async function viewOf(ctx: Context, form: PublicForm, definition: FormDefinition) {
  return {
    form: definition,
    action: action(ctx, form),
    lists: form.lists,
    readers: await readersShown(ctx, form.newsletter.id, definition.countFrom),
    stamp: stamp(ctx),
  };
}

/** GET /e/form/ID: the form for frames, and as a page at its own address. The page around a frame comes from the Referer. */
export async function showForm(
  ctx: Context,
  signUps: SignUps,
  request: PublicRequest,
  publicId: string,
  book: FormBook,
): Promise<PublicAnswer> {
  try {
    const form = await load(publicId, (id) => signUps.form(id));
    const { definition } = form;
    const from = request.headers.get('referer') ?? '';
    // Without a script there is nowhere to remember which version somebody saw, so frames show the form itself.
    book.add({ form, field: 'loaded', variant: form.test ? 'a' : '', place: from, client: request.client });
    return around({ ctx, request, form, definition }, formHtml({ ...(await viewOf(ctx, form, definition)), page: from }));
  } catch (error) {
    const fault = asFault(error);
    return saying('Sign up', 'This form cannot be shown', fault.sentence, fault.status);
  }
}

const scripts = new Map<string, string>();
/** A script for other people's pages, as esbuild left it. */
function built(name: 'form' | 'site' | 'frame' | 'proof'): string {
  const known = scripts.get(name) ?? readFileSync(joinPath(process.cwd(), 'dist', `${name}.js`), 'utf8');
  scripts.set(name, known);
  return known;
}

const JS = { 'content-type': 'text/javascript; charset=utf-8', ...CORS };

/** GET /e/site.js and /e/frame.js: the same for everybody, so they may be kept for an hour. */
export const plainScript = (name: 'site' | 'frame'): PublicAnswer =>
  answer(built(name), { headers: { ...JS, 'cache-control': 'public, max-age=3600' } });

/**
 * GET /e/form/ID.js: the script with the form as it is now. Browsers keep it and ask each time whether it is still the one (RFC 9110 section 8.8.3), so
 * that what is published reaches every page at once, and one that has not changed costs next to nothing.
 */
export async function formScript(
  ctx: Context,
  signUps: SignUps,
  request: PublicRequest,
  publicId: string,
): Promise<PublicAnswer> {
  try {
    const form = await load(publicId, (id) => signUps.form(id));
    const view = async (definition: FormDefinition) => ({ definition, view: await viewOf(ctx, form, definition) });
    const shown = [await view(form.definition), ...(form.test ? [await view(form.test)] : [])];
    const counts = shown.map((one) => one.view.readers ?? '');
    const mark = createHash('sha256')
      .update([form.mark, ...counts, ctx.config.linkOrigin, built('form')].join(' '))
      .digest('base64url');
    const etag = `"${mark.slice(0, 24)}"`;
    const headers = { ...JS, 'cache-control': 'public, no-cache', etag };
    if (request.headers.get('if-none-match')?.includes(etag)) return answer('', { status: 304, headers });
    const [a, b] = shown.map((one) => {
      const { definition } = one;
      const html = standing(definition, scriptHtml(one.view));
      return {
        css: standCss(definition, html),
        html,
        thanks: standing(definition, thanksHtml(definition)),
        redirect: definition.next.redirect,
        placement: definition.placement,
        over: isOver(definition.placement.kind),
        away: wordsOf(definition.language).away,
      };
    });
    const data = { id: form.publicId, action: action(ctx, form), a, b: b ?? null };
    // "<" is escaped so that the text stays inert wherever it is pasted.
    const body = built('form').replace('__FORM__', () => JSON.stringify(data).replace(/</g, '\\u003c'));
    return answer(body, { headers });
  } catch (error) {
    // A page of somebody else's must not break because a form is gone: the script does nothing, and says why in a comment.
    return answer(`/* Inkset: ${asFault(error).sentence.replace(/\*\//g, '')} */`, {
      status: 200,
      headers: { ...JS, 'cache-control': 'no-store' },
    });
  }
}

const NOTES = ['loaded', 'seen', 'started'] as const;

/** POST /e/form/ID/note: a page says that the form was loaded, seen or begun, or several of these. Always 204; unknown forms and words count nothing. */
export async function noteForm(
  signUps: SignUps,
  request: PublicRequest,
  publicId: string,
  book: FormBook,
): Promise<PublicAnswer> {
  const done = answer('', { status: 204, headers: CORS });
  const query = request.url.searchParams;
  const said = (query.get('what') ?? '').split(',');
  const fields = NOTES.filter((field) => said.includes(field));
  if (fields.length === 0) return done;
  const form = await load(publicId, (id) => signUps.lately(id)).catch(() => null);
  if (!form) return done;
  const variant = form.test ? (query.get('v') === 'b' ? 'b' : 'a') : '';
  for (const field of fields) book.add({ form, field, variant, place: query.get('at'), client: request.client });
  return done;
}

const shownIn = (form: PublicForm, sent: Record<string, string>) =>
  sent.variant === 'b' && form.test ? form.test : form.definition;

/**
 * POST /e/form/ID: a form sent in, from a frame, a plain page or the script. Durable before it is answered. Answers JSON to
 * `Accept: application/json`, else a page; a fault comes back with what was typed. Where it looks like a machine's, and under attack, it asks for a
 * proof of work and says so (428): scripts solve it unseen, a page without one asks to wait and press again. Never a false thanks.
 */
export async function sendForm(ctx: Context, signUps: SignUps, request: PublicRequest, publicId: string): Promise<PublicAnswer> {
  const wantsJson = (request.headers.get('accept') ?? '').includes('application/json');
  let form: PublicForm | null = null;
  let definition: FormDefinition | null = null;
  let sent: Record<string, string> = {};
  try {
    sent = await readFields(request);
    form = await load(publicId, (id) => signUps.lately(id));
    definition = shownIn(form, sent);
    const trial = sent.trial ? await takeTrial(ctx, form.id, sent.trial) : null;
    form = await signUps.join(form, sent, visitorOf(request), { trialId: trial });
    definition = shownIn(form, sent);
    if (wantsJson) return json({ ok: true }, 200, CORS);
    if (definition.next.redirect)
      return answer('', { status: 303, headers: { location: definition.next.redirect, 'cache-control': 'no-store' } });
    return around({ ctx, request, form, definition }, thanksHtml(definition));
  } catch (error) {
    const fault = asFault(error);
    // Joining may have looked at the form anew.
    form &&= (await signUps.lately(form.publicId).catch(() => null)) ?? form;
    definition &&= shownIn(form!, sent);
    if (fault.code === 'unavailable') ctx.log.error({ err: error }, 'a form could not be taken');
    const value =
      fault.code === 'unavailable' ? { ...fault.value, sentence: wordsOf(definition?.language ?? 'en').away } : fault.value;
    const proof = fault.code === 'proof' ? await wantProof(ctx, form!.id, parseAddress(sent.email ?? '')!.key) : null;
    if (wantsJson)
      return json(
        { ok: false, error: { ...value, ...(proof && { challenge: proof.challenge, next: { ticket: proof.ticket } }) } },
        fault.status,
        CORS,
      );
    if (form && definition && (fault.fields || proof)) {
      const view = {
        ...(await viewOf(ctx, form, definition)),
        page: sent.page,
        referrer: sent.referrer,
        variant: sent.variant,
        values: sent,
        faults: fault.fields ?? { '': fault.sentence },
        next: proof ? { ticket: proof.ticket } : fault.next,
      };
      return around({ ctx, request, form, definition }, formHtml(view), fault.status, proof ? solving(proof.challenge) : '');
    }
    return saying(form?.newsletter.name ?? 'Sign up', 'That did not work', value.sentence, fault.status);
  }
}

/** The script of a page that solves its challenge and sends itself in again. */
const solving = (challenge: WantedProof['challenge']) => built('proof').replace('__CHALLENGE__', () => JSON.stringify(challenge));

/** OPTIONS for cross-origin posts with JSON bodies. */
export const allowPost = (): PublicAnswer =>
  answer('', {
    status: 204,
    headers: { ...CORS, 'access-control-allow-headers': 'content-type, accept', 'access-control-allow-methods': 'POST' },
  });
