import { figure } from '../growth/figures';
import { escapeHtml } from '../html';
import { HONEYPOT } from './answers';
import type { FormDefinition } from './definition';
import type { FormField } from './fields';
import { shapeOf } from './placement';
import { directionOf, wordsOf } from './words';

export type FormView = {
  form: FormDefinition;
  /** Where the form posts to, absolute. */
  action: string;
  /** Names and ids of the lists to choose among, in order. */
  lists?: { id: string; name: string }[];
  /** How many read the newsletter, where that is shown. */
  readers?: number;
  /** The page it stands on and where that page's visitor came from, when known. */
  page?: string;
  referrer?: string;
  variant?: string;
  /** When the form was made, signed: the time trap. */
  stamp?: string;
  /** What was typed and what is wrong with it, when it comes back. */
  values?: Record<string, string>;
  faults?: Record<string, string>;
  /** Values that go along with the next try, by name. */
  next?: Record<string, string>;
  /** Names its parts, for the builder. */
  marked?: boolean;
};

const INPUT: Partial<Record<FormField['kind'], string>> = {
  email: 'email',
  number: 'number',
  phone: 'tel',
  date: 'date',
  'date and time': 'datetime-local',
};

/** The form as HTML that works without any script: labels, help and faults beside their fields, a trap for machines. */
export function formHtml(view: FormView): string {
  const { form } = view;
  const words = wordsOf(form.language);
  const flat = shapeOf(form.placement.kind) === 'line';
  const mark = (part: string) => (view.marked ? ` data-part="${part}"` : '');
  const fault = (name: string) =>
    view.faults?.[name]
      ? `<span class="ink-fault" role="alert" id="ink-fault-${name}">${escapeHtml(view.faults[name])}</span>`
      : '';
  const described = (name: string, help: string) => {
    const ids = [view.faults?.[name] ? `ink-fault-${name}` : '', help ? `ink-help-${name}` : ''].filter(Boolean);
    return `${view.faults?.[name] ? ' aria-invalid="true"' : ''}${ids.length ? ` aria-describedby="${ids.join(' ')}"` : ''}`;
  };
  const tick = (name: string, value: string, label: string, on: boolean, kind = 'checkbox', extra = '') =>
    `<label class="ink-tick"><input type="${kind}" name="${escapeHtml(name)}" value="${escapeHtml(value)}"${on ? ' checked' : ''}${extra}><span>${escapeHtml(label)}</span></label>`;
  const one = (field: FormField): string => {
    const name = escapeHtml(field.key);
    const typed = view.values?.[field.key] ?? '';
    if (field.kind === 'hidden') return `<input type="hidden" name="${name}" value="${escapeHtml(field.value)}">`;
    const help = field.help ? `<span class="ink-help" id="ink-help-${name}">${escapeHtml(field.help)}</span>` : '';
    const common = ` name="${name}"${field.required ? ' required' : ''}${described(field.key, field.help)}`;
    // On one line the label stands in the field itself.
    const inside = field.placeholder || (flat ? field.label : '');
    const place = inside ? ` placeholder="${escapeHtml(inside)}"` : '';
    const shell = (inner: string) =>
      `<label class="ink-field${field.width === 'half' ? ' ink-half' : ''}"${mark(`field:${field.key}`)}><span>${escapeHtml(field.label)}</span>${inner}${help}${fault(field.key)}</label>`;
    if (field.kind === 'yes/no')
      return `<div class="ink-field ink-wide"${mark(`field:${field.key}`)}>${tick(field.key, 'yes', field.label, typed === 'yes', 'checkbox', field.required ? ' required' : '')}${help}${fault(field.key)}</div>`;
    if (field.kind === 'several choices') {
      const chosen = typed.split('\n');
      return `<fieldset class="ink-field"${mark(`field:${field.key}`)}${described(field.key, field.help)}><legend>${escapeHtml(field.label)}</legend>${field.options.map((option) => tick(field.key, option, option, chosen.includes(option))).join('')}${help}${fault(field.key)}</fieldset>`;
    }
    if (field.kind === 'choice')
      return shell(
        `<select${common}><option value=""></option>${field.options.map((option) => `<option${option === typed ? ' selected' : ''}>${escapeHtml(option)}</option>`).join('')}</select>`,
      );
    if (field.kind === 'long text')
      return shell(`<textarea rows="3" maxlength="4000"${common}${place}>${escapeHtml(typed)}</textarea>`);
    const complete =
      field.key === 'email' ? 'email' : field.key === 'first_name' ? 'given-name' : field.kind === 'phone' ? 'tel' : 'off';
    return shell(
      `<input type="${INPUT[field.kind] ?? 'text'}" autocomplete="${complete}" maxlength="254"${field.kind === 'number' ? ' step="any"' : ''} value="${escapeHtml(typed)}"${common}${place}>`,
    );
  };
  const lists = view.lists?.length
    ? `<fieldset class="ink-field"${mark('lists')}><legend>${escapeHtml(words.lists)}</legend>${view.lists.map((list) => tick('lists', list.id, list.name, (view.values?.lists ?? view.lists?.map((entry) => entry.id).join('\n') ?? '').split('\n').includes(list.id))).join('')}${fault('lists')}</fieldset>`
    : '';
  const consent = form.consent
    ? `<div class="ink-field ink-wide"${mark('consent')}>${tick('consent', 'yes', form.consent, view.values?.consent === 'yes', 'checkbox', ' required')}${fault('consent')}</div>`
    : '';
  const terms = form.terms.words
    ? `<p class="ink-small"${mark('terms')}>${form.terms.url ? `<a href="${escapeHtml(form.terms.url)}" target="_blank" rel="noopener">${escapeHtml(form.terms.words)}</a>` : escapeHtml(form.terms.words)}</p>`
    : '';
  const count = view.readers !== undefined ? `<p class="ink-small"${mark('count')}>${figure(view.readers)} readers</p>` : '';
  const picture =
    form.look.picture.url && !flat
      ? `<img${mark('picture')} src="${escapeHtml(form.look.picture.url)}" alt="${escapeHtml(form.look.picture.alt)}">`
      : '';
  const hidden = (name: string, value: string | undefined) =>
    value === undefined ? '' : `<input type="hidden" name="${name}" value="${escapeHtml(value)}">`;
  return `<form class="ink-form"${mark('ground')} method="post" action="${escapeHtml(view.action)}" lang="${form.language}" dir="${directionOf(form.language)}">
${picture}<h2${mark('heading')}>${escapeHtml(form.heading)}</h2>${form.words && !flat ? `<p${mark('words')}>${escapeHtml(form.words)}</p>` : ''}
<div class="ink-row">${form.fields.map(one).join('')}${lists}${consent}<button type="submit"${mark('button')}>${escapeHtml(form.button)}</button>${fault('')}</div>${terms}${count}
<div hidden><label>Leave this empty<input type="text" name="${HONEYPOT}" tabindex="-1" autocomplete="off"></label></div>
${hidden('page', view.page)}${hidden('referrer', view.referrer)}${hidden('stamp', view.stamp)}${hidden('variant', view.variant)}${Object.entries(
  view.next ?? {},
)
  .map(([name, value]) => hidden(name, value))
  .join('')}</form>`;
}

/**
 * The form as our script shows it. The address is a field of text, with the keyboard of one of type email, until the form is sent: building the
 * latter costs a page a good millisecond (decision 0011). Not where the writer's own CSS speaks of types.
 */
export function scriptHtml(view: FormView): string {
  const html = formHtml(view);
  if (view.form.look.css.includes('type')) return html;
  const typed = '<input inputmode="email" autocapitalize="none" autocorrect="off" spellcheck="false"';
  return html.replace('<input type="email"', () => typed);
}

/** What stands in the form's place once it was sent in. */
export function thanksHtml(form: FormDefinition, marked = false): string {
  return `<div class="ink-form"${marked ? ' data-part="ground"' : ''} role="status" tabindex="-1" lang="${form.language}" dir="${directionOf(form.language)}"><p class="ink-thanks"${marked ? ' data-part="thanks"' : ''}>${escapeHtml(form.thanks)}</p></div>`;
}

/** The form as plain HTML to restyle: no classes of ours, no script, nothing hidden but the trap. Later edits do not reach it. */
export function plainHtml(form: FormDefinition, action: string, lists: { id: string; name: string }[]): string {
  return formHtml({ form, action, lists: form.listChoice.length ? lists : [] })
    .replace(/ class="ink-[^"]*"/g, '')
    .replace(/\n{2,}/g, '\n')
    .trim();
}
