import { readFileSync } from 'node:fs';
import { join as joinPath } from 'node:path';
import { asFault, Fault } from '@/core/faults';
import type { FormDefinition } from '@/core/forms/definition';
import { formCss } from '@/core/forms/look';
import { formHtml, scriptHtml, thanksHtml } from '@/core/forms/render';
import { wordsOf } from '@/core/forms/words';
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
const shapeOf = (definition: FormDefinition) =>
  definition.placement.kind === 'one line' || definition.placement.kind === 'ribbon' ? 'line' : 'block';

/** Tells the page around a frame how high the form is, so that nothing is cut off and nothing scrolls. The one script a frame has. */
const FRAME_SCRIPT =
  "new ResizeObserver(function(){parent.postMessage({inkset:location.pathname,height:Math.ceil(document.documentElement.getBoundingClientRect().height)},'*')}).observe(document.documentElement)";

function framed(form: PublicForm, definition: FormDefinition, body: string, status = 200, script = ''): PublicAnswer {
  return page({
    name: form.newsletter.name,
    title: definition.heading,
    bare: true,
    status,
    language: definition.language,
    script: `${FRAME_SCRIPT};${script}`,
    body: `<style>${formCss(definition.look, shapeOf(definition))}</style>${body}`,
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

/** GET /e/form/ID: the form as a page, for frames and for its own address. The page around it comes from the Referer. */
export async function showForm(
  ctx: Context,
  signUps: SignUps,
  request: PublicRequest,
  publicId: string,
  book: FormBook,
): Promise<PublicAnswer> {
  try {
    const form = await load(publicId, (id) => signUps.form(id));
    const around = request.headers.get('referer') ?? '';
    // Without a script there is nowhere to remember which version somebody saw, so frames show the form itself.
    book.add({ form, field: 'loaded', variant: form.test ? 'a' : '', place: around, client: request.client });
    return framed(form, form.definition, formHtml({ ...(await viewOf(ctx, form, form.definition)), page: around }));
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

const JS = { 'content-type': 'text/javascript; charset=utf-8', 'cache-control': 'public, max-age=60', ...CORS };

/** GET /e/site.js and /e/frame.js: the same for everybody, so they may be kept for an hour. */
export const plainScript = (name: 'site' | 'frame'): PublicAnswer =>
  answer(built(name), { headers: { ...JS, 'cache-control': 'public, max-age=3600' } });

/** GET /e/form/ID.js: the script with the form as it is now, so that what is published reaches every page at once. */
export async function formScript(ctx: Context, signUps: SignUps, publicId: string): Promise<PublicAnswer> {
  try {
    const form = await load(publicId, (id) => signUps.form(id));
    const version = async (definition: FormDefinition) => {
      const html = scriptHtml(await viewOf(ctx, form, definition));
      return {
        css: formCss(definition.look, shapeOf(definition), html),
        html,
        thanks: thanksHtml(definition),
        redirect: definition.next.redirect,
        placement: definition.placement,
        away: wordsOf(definition.language).away,
      };
    };
    const data = {
      id: form.publicId,
      action: action(ctx, form),
      a: await version(form.definition),
      b: form.test && (await version(form.test)),
    };
    // "<" is escaped so that the text stays inert wherever it is pasted.
    const body = built('form').replace('__FORM__', () => JSON.stringify(data).replace(/</g, '\\u003c'));
    return answer(body, { headers: JS });
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
    return framed(form, definition, thanksHtml(definition));
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
      return framed(form, definition, formHtml(view), fault.status, proof ? solving(proof.challenge) : '');
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
