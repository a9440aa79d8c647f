import { escapeHtml } from '../html';
import { HONEYPOT } from './answers';
import type { FormDefinition } from './definition';

export type FormView = {
  form: FormDefinition;
  /** Where the form posts to, absolute. */
  action: string;
  /** The page it stands on and where that page's visitor came from, when known. */
  page?: string;
  referrer?: string;
  /** What was typed and what is wrong with it, when it comes back. */
  values?: Record<string, string>;
  faults?: Record<string, string>;
  colour: string;
};

/** The look of a form; scoped to its own classes so that it can stand bare on a page, in a frame or in a shadow root. */
export function formCss(colour: string): string {
  return `.ink-form{box-sizing:border-box;width:100%;max-width:46rem;margin:0 auto;padding:26px;border-radius:6px;background:${colour};color:#f6f5f0;font:16px/1.5 system-ui,sans-serif;text-align:start}
.ink-form *{box-sizing:border-box}
.ink-form h2{margin:0 0 6px;font:500 24px/1.25 Georgia,'Times New Roman',serif;color:inherit}
.ink-form p{margin:0 0 14px;color:inherit;opacity:.92}
.ink-row{display:flex;flex-wrap:wrap;gap:12px;align-items:flex-end}
.ink-row label{flex:1 1 180px;display:block;font-size:13px;min-width:0}
.ink-row input{display:block;width:100%;margin-top:4px;padding:10px 12px;border:1px solid #fffefb;border-radius:4px;background:#fffefb;color:#1c2230;font:16px/1.25 system-ui,sans-serif}
.ink-row button{flex:0 0 auto;padding:11px 18px;border:0;border-radius:4px;background:#c1ebde;color:#0c2a27;font:600 16px/1.25 system-ui,sans-serif;cursor:pointer}
.ink-row input:focus-visible,.ink-row button:focus-visible{outline:3px solid #c1ebde;outline-offset:2px}
.ink-fault{display:block;margin-top:4px;padding:3px 6px;border-radius:3px;background:#f8e6e2;color:#8b231c;font-size:13px}
.ink-away{position:absolute!important;left:-9999px;height:1px;width:1px;overflow:hidden}
.ink-thanks{font-size:17px}`;
}

/** The form as HTML that works without any script: labels, faults beside their fields, a trap for machines. */
export function formHtml(view: FormView): string {
  const { form } = view;
  const hidden = (name: string, value: string | undefined) =>
    `<input type="hidden" name="${name}" value="${escapeHtml(value ?? '')}">`;
  const field = (name: string, kind: string, label: string, placeholder: string, required: boolean) => {
    const fault = view.faults?.[name];
    const hint = fault ? ` aria-invalid="true" aria-describedby="ink-fault-${name}"` : '';
    const complete = name === 'email' ? 'email' : 'given-name';
    return `<label>${escapeHtml(label)}<input type="${kind}" name="${name}" autocomplete="${complete}" placeholder="${escapeHtml(
      placeholder,
    )}" value="${escapeHtml(view.values?.[name] ?? '')}"${required ? ' required' : ''}${hint} maxlength="254">${
      fault ? `<span class="ink-fault" id="ink-fault-${name}">${escapeHtml(fault)}</span>` : ''
    }</label>`;
  };
  return `<form class="ink-form" method="post" action="${escapeHtml(view.action)}">
<h2>${escapeHtml(form.heading)}</h2>${form.words ? `<p>${escapeHtml(form.words)}</p>` : ''}
<div class="ink-row">${[...form.fields]
    .sort((a, b) => Number(a.name === 'email') - Number(b.name === 'email'))
    .map((f) => field(f.name, f.kind, f.label, f.placeholder, f.required))
    .join('')}<button type="submit">${escapeHtml(form.button)}</button></div>
<div class="ink-away" aria-hidden="true"><label>Leave this empty<input type="text" name="${HONEYPOT}" tabindex="-1" autocomplete="off"></label></div>
${hidden('page', view.page)}${hidden('referrer', view.referrer)}</form>`;
}

/** What stands in the form's place once it was sent in. */
export function thanksHtml(form: FormDefinition): string {
  return `<div class="ink-form" role="status" tabindex="-1"><p class="ink-thanks">${escapeHtml(form.thanks)}</p></div>`;
}
