import { readFileSync } from 'node:fs';
import { join as joinPath } from 'node:path';
import { asFault, Fault } from '@/core/faults';
import { formCss, formHtml, thanksHtml } from '@/core/forms/render';
import type { Context } from '../context';
import { type PublicForm, publicForm } from '../forms/forms';
import { countForm } from '../growth/counts';
import { join } from '../readers/join';
import { json, page, saying } from './page';
import { readFields, visitorOf } from './request';

const CORS = { 'access-control-allow-origin': '*' };

const load = async (ctx: Context, publicId: string): Promise<PublicForm> => {
  const form = /^[0-9a-f]{12}$/.test(publicId) ? await publicForm(ctx, publicId) : null;
  if (!form) throw new Fault('not-found', 'This form is no longer there.');
  return form;
};

const action = (ctx: Context, form: PublicForm) => `${ctx.config.linkOrigin}/e/form/${form.publicId}`;

function framed(form: PublicForm, body: string, status = 200): Response {
  return page({
    name: form.newsletter.name,
    title: form.definition.heading,
    bare: true,
    status,
    body: `<style>${formCss(form.newsletter.colour)}</style>${body}`,
  });
}

/** GET /e/form/ID: the form as a page, for frames and for its own address. The page around it comes from the Referer. */
export async function showForm(ctx: Context, request: Request, publicId: string): Promise<Response> {
  try {
    const form = await load(ctx, publicId);
    await countForm(ctx, ctx.db, form.newsletter, form.id, 'loaded');
    const view = {
      form: form.definition,
      action: action(ctx, form),
      page: request.headers.get('referer') ?? '',
      colour: form.newsletter.colour,
    };
    return framed(form, formHtml(view));
  } catch (error) {
    const fault = asFault(error);
    return saying('Sign up', 'This form cannot be shown', fault.sentence, fault.status);
  }
}

let script: string | undefined;
/** The embed script as esbuild left it. */
const embedScript = () => {
  script ??= readFileSync(joinPath(process.cwd(), 'dist', 'form.js'), 'utf8');
  return script;
};

/** GET /e/form/ID.js: the script with the form as it is now, so that edits reach every page at once. */
export async function formScript(ctx: Context, publicId: string): Promise<Response> {
  const headers = { 'content-type': 'text/javascript; charset=utf-8', 'cache-control': 'public, max-age=60', ...CORS };
  try {
    const form = await load(ctx, publicId);
    await countForm(ctx, ctx.db, form.newsletter, form.id, 'loaded');
    const { newsletter } = form;
    const data = {
      id: form.publicId,
      action: action(ctx, form),
      css: formCss(newsletter.colour),
      html: formHtml({ form: form.definition, action: action(ctx, form), colour: newsletter.colour }),
      thanks: thanksHtml(form.definition),
    };
    // "<" is escaped so that the text stays inert wherever it is pasted.
    const body = embedScript().replace('__FORM__', () => JSON.stringify(data).replace(/</g, '\\u003c'));
    return new Response(body, { headers });
  } catch (error) {
    // A page of somebody else's must not break because a form is gone: the script does nothing, and says why in a comment.
    return new Response(`/* Inkset: ${asFault(error).sentence} */`, {
      status: 200,
      headers: { ...headers, 'cache-control': 'no-store' },
    });
  }
}

/**
 * POST /e/form/ID: a form sent in, from a frame, a plain page or the script. Durable before it is answered. Answers JSON to
 * `Accept: application/json`, else a page; a fault comes back with what was typed. Never a false thanks.
 */
export async function sendForm(ctx: Context, request: Request, publicId: string): Promise<Response> {
  const wantsJson = (request.headers.get('accept') ?? '').includes('application/json');
  let form: PublicForm | null = null;
  let sent: Record<string, string> = {};
  try {
    sent = await readFields(request);
    form = await load(ctx, publicId);
    await join(ctx, form, sent, visitorOf(request));
    return wantsJson ? json({ ok: true }, 200, CORS) : framed(form, thanksHtml(form.definition));
  } catch (error) {
    const fault = asFault(error);
    if (fault.code === 'unavailable') {
      ctx.log.error({ err: error }, 'a form could not be taken');
    }
    const value =
      fault.code === 'unavailable'
        ? {
            ...fault.value,
            sentence: 'This did not work on our side, and you are not signed up yet. Please try again in a minute.',
          }
        : fault.value;
    if (wantsJson) return json({ ok: false, error: value }, fault.status, CORS);
    if (form && fault.fields) {
      const view = {
        form: form.definition,
        action: action(ctx, form),
        page: sent.page,
        referrer: sent.referrer,
        values: sent,
        faults: fault.fields,
        colour: form.newsletter.colour,
      };
      return framed(form, formHtml(view), fault.status);
    }
    return saying(form?.newsletter.name ?? 'Sign up', 'That did not work', value.sentence, fault.status);
  }
}

/** OPTIONS for cross-origin posts with JSON bodies. */
export const allowPost = (): Response =>
  new Response(null, {
    status: 204,
    headers: { ...CORS, 'access-control-allow-headers': 'content-type, accept', 'access-control-allow-methods': 'POST' },
  });
