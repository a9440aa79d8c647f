import type { ActionResult } from '@/core/faults';

/** What the account library calls its errors, said for a person. */
const SAID: Record<string, string> = {
  INVALID_EMAIL_OR_PASSWORD: 'The address or the password is not right.',
  EMAIL_NOT_VERIFIED: 'This address is not confirmed yet. We have sent the link again; look in your inbox.',
  PASSWORD_TOO_SHORT: 'The password is too short.',
  PASSWORD_TOO_LONG: 'The password is too long.',
  INVALID_EMAIL: 'This does not look like an email address.',
  VALIDATION_ERROR: 'This does not look like an email address.',
  NAME_TOO_LONG: 'A name has at most 80 characters, on one line.',
  SIGN_UP_CLOSED: 'Accounts are opened by invitation here. Use the address that was invited, or ask whoever runs this Inkset.',
  INVALID_PASSWORD: 'The password is not right.',
  INVALID_TOKEN: 'This link has run out or was used already. Ask for a new one.',
};

/** Asks the account library for something, and says its answer for a person. */
export async function call(path: string, body: Record<string, unknown>): Promise<ActionResult> {
  const response = await fetch(`/api/auth/${path}`, {
    method: 'POST',
    headers: { 'content-type': 'application/json' },
    body: JSON.stringify(body),
  });
  if (response.ok) return { ok: true, value: undefined };
  if (response.status === 429)
    return { ok: false, error: { code: 'too-many', sentence: 'That was tried very often. Please wait a while.' } };
  const answer = (await response.json().catch(() => ({}))) as { code?: string; message?: string };
  return {
    ok: false,
    error: {
      code: 'invalid',
      sentence:
        SAID[answer.code ?? ''] ??
        (answer.code === 'OWNS_NEWSLETTERS' ? answer.message : undefined) ??
        'This did not work on our side. Please try again in a minute.',
    },
  };
}
