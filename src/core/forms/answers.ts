import { type Address, parseAddress } from '../readers/address';
import type { FormDefinition } from './definition';
import { type Answer, readAnswer } from './fields';
import { fill, wordsOf } from './words';

export type Answers = {
  address: Address;
  firstName: string | null /** By the field's key, without the built-in ones. */;
  fields: Record<string, Answer> /** Lists chosen; null where the form does not ask. */;
  lists: string[] | null;
};
export type AnswerFault = { faults: Record<string, string> };

/** The name of the field no person sees; whatever fills it in is a machine. */
export const HONEYPOT = 'website_url';

/** Most characters we keep of a page address or a referrer. */
const LONGEST_URL = 1000;

/** Checks what a visitor sent against the form's definition, in the form's language. Unknown entries are ignored, never stored. */
export function readAnswers(form: FormDefinition, sent: Record<string, string>): Answers | AnswerFault {
  const words = wordsOf(form.language);
  const faults: Record<string, string> = {};
  const typed = (sent.email ?? '').trim();
  const address = parseAddress(typed);
  if (!typed) faults.email = words.noEmail;
  else if (!address) faults.email = words.notEmail;

  const fields: Record<string, Answer> = {};
  let firstName: string | null = null;
  for (const field of form.fields) {
    if (field.kind === 'email') continue;
    const read = readAnswer(field, sent[field.key]);
    if ('problem' in read) faults[field.key] = fill(words.problems[read.problem], { label: field.label });
    else if (field.key === 'first_name') firstName = typeof read.value === 'string' ? read.value.slice(0, 100) : null;
    else if (read.value !== null) fields[field.key] = read.value;
  }
  if (form.consent && !/^(yes|on|true|1)$/i.test(sent.consent ?? '')) faults.consent = words.consent;
  let lists: string[] | null = null;
  if (form.listChoice.length) {
    lists = (sent.lists ?? '').split('\n').filter((id) => form.listChoice.includes(id));
    if (lists.length === 0) faults.lists = words.problems['not a choice'];
  }
  return address && Object.keys(faults).length === 0 ? { address, firstName, fields, lists } : { faults };
}

/** An http(s) address as given by a browser, without its fragment and cut to a sane length; anything else is null. */
export function readPageUrl(value: string | undefined): string | null {
  if (!value || value.length > 4000) return null;
  try {
    const url = new URL(value);
    if (url.protocol !== 'http:' && url.protocol !== 'https:') return null;
    url.hash = '';
    url.username = '';
    url.password = '';
    return url.href.slice(0, LONGEST_URL);
  } catch {
    return null;
  }
}
