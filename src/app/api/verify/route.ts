import { auth } from '@/server/auth/session';
import { runtime } from '@/server/runtime';

/**
 * Confirms an account's address and signs its owner in. The account library does that on a GET; a mail scanner's GET must not, so that path is shut
 * (see api/auth) and reached from here alone, by the form of the page that the mailed link opens.
 */
export async function POST(request: Request): Promise<Response> {
  const { webOrigin } = (await runtime()).config;
  // Somebody else's page must not sign a visitor in to an account of its choice.
  if ((request.headers.get('origin') ?? webOrigin) !== webOrigin) return new Response('Not from here', { status: 403 });
  const sent = await request.formData();
  const token = String(sent.get('token') ?? '');
  const step = String(sent.get('step') ?? '');
  const callbackURL = step === 'old' || step === 'new' ? `/account?address=${step}` : '/verify';
  const query = new URLSearchParams({ token, callbackURL });
  const { headers } = await (await auth()).handler(
    new Request(`${webOrigin}/api/auth/verify-email?${query}`, { headers: { cookie: request.headers.get('cookie') ?? '' } }),
  );
  // The form is followed with a GET, whatever the library would have said.
  const answer = new Headers(headers);
  if (!answer.has('location')) answer.set('location', '/verify?error=failed');
  return new Response(null, { status: 303, headers: answer });
}
