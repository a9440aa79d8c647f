import { auth } from '@/server/auth/session';

const handle = async (request: Request): Promise<Response> => {
  // It would confirm an account for whoever fetches the link first; api/verify does it for whoever presses the button.
  if (new URL(request.url).pathname.endsWith('/verify-email')) return new Response('Not found', { status: 404 });
  return (await auth()).handler(request);
};

export { handle as GET, handle as POST };
