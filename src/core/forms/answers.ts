import { type Address, parseAddress } from '../readers/address';
import type { FormDefinition } from './definition';

export type Answers = { address: Address; firstName: string | null };
export type AnswerFault = { fields: Record<string, string> };

/** The name of the field no person sees; whatever fills it in is a machine. */
export const HONEYPOT = 'website_url';

/** Most characters we keep of a page address or a referrer. */
const LONGEST_URL = 1000;

/** Checks what a visitor sent against the form's definition. Unknown entries are ignored, never stored. */
export function readAnswers(form: FormDefinition, sent: Record<string, string>): Answers | AnswerFault {
  const fields: Record<string, string> = {};
  const address = parseAddress(sent.email ?? '');
  if (!(sent.email ?? '').trim()) fields.email = 'Please type your email address.';
  else if (!address) fields.email = 'This does not look like an email address. One looks like name@example.com.';

  let firstName: string | null = null;
  const asked = form.fields.find((field) => field.name === 'first_name');
  if (asked) {
    const value = (sent.first_name ?? '').replace(/[\u0000-\u001f\u007f\ue000\ue001]+/g, ' ').trim();
    if (value.length > 100) fields.first_name = 'Please shorten this to 100 characters.';
    else if (!value && asked.required) fields.first_name = `Please fill in “${asked.label}”.`;
    firstName = value || null;
  }
  return address && Object.keys(fields).length === 0 ? { address, firstName } : { fields };
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
